package follow_test

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/follow"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// site writes a gateway's files: its number, and for each far site its number.
func site(files fstest.MapFS, n int, rules string, more string, far ...int) {
	dir := fmt.Sprintf("g%d/", n)
	var conns strings.Builder
	for _, f := range far {
		fmt.Fprintf(
			&conns,
			"to%d {\nversion=2\nlocal_addrs=192.0.2.%d\nremote_addrs=192.0.2.%d\nproposals=aes256-sha256-ecp256\nlocal {\nauth=psk\n"+
				"id=g%d\n}\nremote {\nauth=psk\nid=g%d\n}\nchildren {\nnet {\nlocal_ts=LOCAL%d\nremote_ts=REMOTE%d\n"+
				"esp_proposals=aes256gcm16-ecp256\nstart_action=trap\n}\n}\n}\n",
			f,
			n,
			f,
			n,
			f,
			f,
			f,
		)
	}
	text := "connections {\n" + conns.String() + "}\n"
	for _, pair := range strings.Fields(more) {
		from, to, _ := strings.Cut(pair, "=")
		text = strings.ReplaceAll(text, from, to)
	}
	for _, f := range far {
		text = strings.ReplaceAll(text, fmt.Sprintf("LOCAL%d", f), fmt.Sprintf("10.%d.0.0/16", n))
		text = strings.ReplaceAll(text, fmt.Sprintf("REMOTE%d", f), fmt.Sprintf("10.%d.0.0/16", f))
	}
	files[dir+"swanctl.conf"] = &fstest.MapFile{Data: []byte(text)}
	files[dir+"ip.txt"] = &fstest.MapFile{
		Data: []byte(
			fmt.Sprintf(
				"1: lo: <LOOPBACK,UP> mtu 65536\n    inet 127.0.0.1/8 scope host lo\n2: wan: <UP> mtu 1500\n"+
					"    inet 192.0.2.%d/24 scope global wan\n3: lan: <UP> mtu 1500\n    inet 10.%d.0.1/16 scope global lan\n",
				n,
				n,
			),
		),
	}
	if rules != "" {
		files[dir+"nftables.conf"] = &fstest.MapFile{Data: []byte(rules)}
	}
}

func ask(t *testing.T, files fstest.MapFS, at, from, to, protocol string, change func(*follow.Question)) []*follow.Trip {
	t.Helper()
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	src, err := follow.ParsePlace(from)
	require.NoError(t, err)
	dst, err := follow.ParsePlace(to)
	require.NoError(t, err)
	set, err := follow.Packets(src, dst, protocol)
	require.NoError(t, err)
	q := follow.Question{Gateway: e.Gateway(at), Packets: set}
	if change != nil {
		change(&q)
	}
	trips, err := follow.Ask(e, q)
	require.NoError(t, err)
	return trips
}

const forward = "table inet f {\nchain pass {\ntype filter hook forward priority 0; policy drop;\n%s\n}\n}\n"

func TestThroughTheTunnelAndBack(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	site(files, 2, fmt.Sprintf(forward, "ct state established,related accept\nmeta ipsec exists tcp dport 443 accept"), "", 1)
	trips := ask(t, files, "g1", "10.1.0.5", "10.2.0.9", "tcp", nil)
	require.Len(t, trips, 1)
	assert.Equal(t, "lan", trips[0].In)
	require.Len(t, trips[0].Parts, 1)
	p := trips[0].Parts[0]
	assert.Equal(t, walk.Encrypted, p.Fate)
	require.NotNil(t, p.Crossing.Trip)
	assert.Empty(t, p.Crossing.Notes)
	far := p.Crossing.Trip
	assert.Equal(t, "g2", far.Gateway.Name)
	require.Len(t, far.Parts, 2)
	fates := map[walk.Fate]*follow.Part{}
	for _, q := range far.Parts {
		fates[q.Fate] = q
	}
	open := fates[walk.Clear]
	require.NotNil(t, open)
	assert.Equal(t, "lan", open.Out)
	assert.EqualValues(t, 443, open.First.Dport)
	assert.Empty(t, open.Stray)
	require.Len(t, open.Answer, 2)
	assert.Equal(t, "g2", open.Answer[0].Gateway.Name)
	assert.Equal(t, walk.Encrypted, open.Answer[0].Parts[0].Fate)
	assert.Equal(t, "g1", open.Answer[1].Gateway.Name)
	assert.Equal(t, "lan", open.Answer[1].Parts[0].Out)
	require.NotNil(t, fates[walk.Dropped])
	assert.NotEqualValues(t, 443, fates[walk.Dropped].First.Dport)
}

func TestAnswerThatIsDropped(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, fmt.Sprintf(forward, "iifname lan accept"), "", 2)
	site(files, 2, "", "", 1)
	p := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", nil)[0].Parts[0].Crossing.Trip.Parts[0]
	assert.Equal(t, "at g1 the reply is dropped in forward", p.Stray)
}

func TestFarGatewayKeepsESPOut(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	site(files, 2, "table inet f {\nchain in {\ntype filter hook input priority 0; policy drop;\nudp dport 500 accept\n}\n}\n", "", 1)
	c := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", nil)[0].Parts[0].Crossing
	assert.Equal(t, "the ESP packets are blocked at g2", c.Lost)
	require.NotNil(t, c.Where)
	assert.Nil(t, c.Trip)
}

func TestNoChildOfTheFarEnd(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	site(files, 2, "", "REMOTE1=10.1.128.0/17", 1)
	c := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", nil)[0].Parts[0].Crossing
	assert.Equal(t, "no child of g2/to1 is for them", c.Lost)
	c = ask(t, files, "g1", "10.1.0.0/16", "10.2.0.9:443", "", func(q *follow.Question) { q.In = "lan" })[0].Parts[0].Crossing
	assert.Empty(t, c.Lost)
	require.Len(t, c.Notes, 1)
	assert.Contains(t, c.Notes[0], "g2 has no child for a part of them: 10.1.0.0/17 > 10.2.0.9")
}

func TestDownHoldsBackOrLeaks(t *testing.T) {
	for action, want := range map[string]walk.Fate{"trap": walk.Dropped, "start": walk.Clear} {
		files := fstest.MapFS{}
		site(files, 1, "", "", 2)
		files["g1/swanctl.conf"].Data = []byte(
			strings.ReplaceAll(string(files["g1/swanctl.conf"].Data), "start_action=trap", "start_action="+action),
		)
		files["g1/route.txt"] = &fstest.MapFile{
			Data: []byte(
				"default via 192.0.2.254 dev wan\n10.1.0.0/16 dev lan proto kernel scope link src 10.1.0.1\n" +
					"192.0.2.0/24 dev wan proto kernel scope link src 192.0.2.1\n",
			),
		}
		p := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", func(q *follow.Question) { q.Down = true })[0].Parts[0]
		assert.Equal(t, want, p.Fate, action)
	}
}

func TestHubInTheMiddle(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "REMOTE2=10.2.0.0/16,10.3.0.0/16", 2)
	site(files, 2, "", "LOCAL1=10.2.0.0/16,10.3.0.0/16 LOCAL3=10.1.0.0/16,10.2.0.0/16", 1, 3)
	site(files, 3, "", "REMOTE2=10.1.0.0/16,10.2.0.0/16", 2)
	p := ask(t, files, "g1", "10.1.0.5", "10.3.0.9:443", "", nil)[0].Parts[0]
	require.NotNil(t, p.Crossing.Trip, p.Crossing.Lost)
	hub := p.Crossing.Trip.Parts[0]
	assert.Equal(t, walk.Encrypted, hub.Fate)
	assert.Equal(t, "to3/net", hub.Policy.Name)
	require.NotNil(t, hub.Crossing.Trip, hub.Crossing.Lost)
	end := hub.Crossing.Trip.Parts[0]
	assert.Equal(t, walk.Clear, end.Fate)
	assert.Empty(t, end.Stray)
	assert.Len(t, end.Answer, 3)
}

func TestRouteOfAWideChildTakesTheAnswer(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "REMOTE2=10.0.0.0/8", 2)
	site(files, 2, "", "LOCAL1=10.0.0.0/8", 1)
	end := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", nil)[0].Parts[0].Crossing.Trip.Parts[0]
	assert.Equal(t, "the packets came to g1 on lan, and the reply leaves via wan", end.Stray)
}

func TestOwnPacketsAndThoseToTheGateway(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	site(files, 2, "", "", 1)
	trips := ask(t, files, "g1", "10.1.0.0/30", "10.2.0.1", "icmp", nil)
	require.Len(t, trips, 2)
	assert.True(t, trips[0].Own)
	for _, trip := range trips {
		end := trip.Parts[0].Crossing.Trip.Parts[0]
		assert.Equal(t, walk.Delivered, end.Fate)
		assert.Empty(t, end.Stray)
		assert.Len(t, end.Answer, 2)
	}
}

func TestEndsThatDoNotAgreeAreNoted(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	site(files, 2, "", "", 1)
	files["g2/swanctl.conf"].Data = []byte(
		strings.ReplaceAll(string(files["g2/swanctl.conf"].Data), "proposals=aes256-sha256-ecp256", "proposals=aes128-sha256-ecp256"),
	)
	c := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", nil)[0].Parts[0].Crossing
	require.Len(t, c.Notes, 2)
	assert.Contains(t, c.Notes[0], "with g1 as initiator the IKE SA does not come up")
}

func TestPlaces(t *testing.T) {
	for in, want := range map[string]string{
		"10.1.0.5": "10.1.0.5", "10.1.0.5:443": "10.1.0.5:443", "10.1.0.7/24": "10.1.0.0/24", "10.1.0.0/24:53": "10.1.0.0/24:53",
		"2001:db8::1": "2001:db8::1", "[2001:db8::1]:443": "[2001:db8::1]:443", "2001:db8::/32": "2001:db8::/32",
		"[2001:db8::]/32:443": "[2001:db8::]/32:443", "[2001:db8::1]": "2001:db8::1",
	} {
		p, err := follow.ParsePlace(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, p.String())
		again, err := follow.ParsePlace(p.String())
		require.NoError(t, err, p.String())
		assert.Equal(t, p, again)
	}
	for _, in := range []string{"", "10.1.0", "10.1.0.5:0", "10.1.0.5:70000", "[2001:db8::1", "[2001:db8::1]443", "fe80::1%eth0",
		"10.1.0.0/33", "a:b"} {
		_, err := follow.ParsePlace(in)
		assert.Error(t, err, in)
	}
}

func TestQuestionsThatCannotBe(t *testing.T) {
	place := func(s string) follow.Place { return follow.Place{Net: netip.MustParsePrefix(s)} }
	_, err := follow.Packets(place("10.0.0.0/8"), place("2001:db8::/32"), "")
	assert.ErrorContains(t, err, "different families")
	ported := follow.Place{Net: netip.MustParsePrefix("10.0.0.1/32"), Port: 5}
	_, err = follow.Packets(ported, ported, "icmp")
	assert.ErrorContains(t, err, "icmp has no ports")
	_, err = follow.Packets(ported, ported, "any")
	assert.ErrorContains(t, err, "needs a protocol")
	_, err = follow.Packets(place("10.0.0.0/8"), place("10.0.0.0/8"), "tpc")
	assert.ErrorContains(t, err, `no protocol "tpc"`)
	ping, err := follow.Packets(place("10.0.0.0/8"), place("10.0.0.0/8"), "icmp")
	require.NoError(t, err)
	all, err := follow.Packets(place("10.0.0.0/8"), place("10.0.0.0/8"), "1")
	require.NoError(t, err)
	assert.True(t, all.Contains(ping) && !ping.Contains(all))
}
