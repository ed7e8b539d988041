package mirror_test

import (
	"context"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/estate"
	"toril/ike"
	"toril/mirror"
	"toril/model"
	"toril/model/literal"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
	"toril/source"
)

func load(t *testing.T, files fstest.MapFS) *pair.Whole {
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	return e
}

// agrees reads a mirrored end back and asks whether it agrees with the original, whoever begins.
func agrees(t *testing.T, end pair.End, text string) {
	e := load(t, fstest.MapFS{"far/swanctl.conf": {Data: []byte(text)}})
	for _, f := range e.Gateways[0].Files {
		assert.Empty(t, f.Unread, text)
	}
	far := e.Gateways[0]
	tunnel := &pair.Tunnel{Ends: []pair.End{end, {Gateway: far, Connection: far.Connections[0]}}}
	for _, a := range negotiate.Tunnel(tunnel) {
		assert.Equal(t, negotiate.Agrees, a.Outcome, "%s begins: %v\n%s", a.Initiator.Name(), a.Failure, text)
		for _, c := range a.Children {
			if c.Rekey.Outcome != negotiate.Never {
				assert.Equal(t, negotiate.Agrees, c.Rekey.Outcome, text)
			}
		}
	}
}

func TestEveryDemoConnectionMirrored(t *testing.T) {
	e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	n := 0
	for _, tu := range e.Tunnels {
		for _, end := range tu.Ends {
			text, err := mirror.Swanctl(mirror.Of(tu, end))
			require.NoError(t, err)
			if !end.Connection.Aggressive.Value { // which the daemon that it is written for refuses with a key
				agrees(t, end, text)
			}
			for _, k := range end.Gateway.Keys {
				assert.NotContains(t, text, k.Secret.Reveal())
			}
			n++
		}
	}
	assert.Greater(t, n, 4)
}

func TestOtherMakesMirrored(t *testing.T) {
	for name, text := range map[string]string{
		"ipsec.conf": "conn a\n\tikev2=insist\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tleftid=@here.example\n" +
			"\trightid=@there.example\n\tleftsubnet=10.1.0.0/16\n\trightsubnet=10.2.0.0/16\n\tauthby=secret\n\tauto=start\n",
		"iked.conf": "ikev2 \"a\" active esp from 10.1.0.0/16 to 10.2.0.0/16 local 192.0.2.1 peer 198.51.100.7 srcid here.example " +
			"dstid there.example psk \"not a real key\"\n",
	} {
		e := load(t, fstest.MapFS{"g/" + name: {Data: []byte(text)}})
		out, err := mirror.Swanctl(mirror.Of(e.Tunnels[0], e.Tunnels[0].Ends[0]))
		require.NoError(t, err, name)
		agrees(t, e.Tunnels[0].Ends[0], out)
		assert.NotContains(t, out, "not a real key")
	}
}

// TestDistinguishedNamesKeepTheirCase: certificates have them in one case, and a daemon may mind.
func TestDistinguishedNamesKeepTheirCase(t *testing.T) {
	for name, text := range map[string]string{
		"swanctl.conf": "connections {\n a {\n  local_addrs = 192.0.2.1\n  remote_addrs = 198.51.100.7\n  local {\n   auth = pubkey\n" +
			"   id = \"C=AT, O=Harbour, CN=here\"\n  }\n  remote {\n   auth = pubkey\n   id = \"C=AT, O=Harbour, CN=there\"\n  }\n" +
			"  children {\n   c {\n    local_ts = 10.1.0.0/16\n    remote_ts = 10.2.0.0/16\n   }\n  }\n }\n}\n",
		"ipsec.conf": "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tleftid=\"C=AT, O=Harbour, CN=here\"\n" +
			"\trightid=\"C=AT, O=Harbour, CN=there\"\n\tleftsubnet=10.1.0.0/16\n\trightsubnet=10.2.0.0/16\n\tauto=start\n",
	} {
		e := load(t, fstest.MapFS{"g/" + name: {Data: []byte(text)}})
		out, err := mirror.Swanctl(mirror.Of(e.Tunnels[0], e.Tunnels[0].Ends[0]))
		require.NoError(t, err, name)
		assert.Contains(t, out, `id = "C=AT, O=Harbour, CN=there"`, name)
		assert.Contains(t, out, `id = "C=AT, O=Harbour, CN=here"`, name)
	}
}

func TestWhatIsOpenIsSaid(t *testing.T) {
	e := load(
		t,
		fstest.MapFS{
			"g/swanctl.conf": {
				Data: []byte(
					"connections {\n a {\n  local_addrs = 192.0.2.1\n  remote_addrs = %any\n  local {\n   auth = psk\n  }\n" +
						"  remote {\n   auth = psk\n  }\n  children {\n   c {\n" +
						"    local_ts = 10.1.0.0/16[tcp/443], 10.9.0.1-10.9.0.7\n    esp_proposals = aes128gmac-x25519, null-sha256\n" +
						"   }\n  }\n }\n}\n",
				),
			},
		},
	)
	s := mirror.Of(e.Tunnels[0], e.Tunnels[0].Ends[0])
	assert.Equal(
		t,
		[]string{
			"the far end's own address: g accepts %any",
			"the identity of g is not written down: its address stands for it",
			"the far end's own identity: g accepts any",
			"the pre-shared key: hand it over by another way than this sheet",
		},
		s.Open,
	)
	text, err := mirror.Swanctl(mirror.Of(e.Tunnels[0], e.Tunnels[0].Ends[0]))
	require.NoError(t, err)
	assert.Contains(t, text, `remote_ts = 10.1.0.0/16[6/443], 10.9.0.1-10.9.0.7`)
	assert.Contains(t, text, `esp_proposals = aes128gmac-x25519, null-sha256`)
	assert.NotContains(t, text, "local_addrs", "the far end's address is not known")
}

func TestNamesCannotBreakOut(t *testing.T) {
	c := &model.Connection{
		Name:        "x",
		RemoteAddrs: model.Setting[model.Addresses]{Value: model.Addresses{{Name: "evil\n}\nsecrets {"}}},
		Proposals:   model.Setting[[]ike.Proposal]{Value: nil},
	}
	c.Local.ID.Value = ike.Identity{Kind: ike.IDFQDN, Value: "a\"\n} b {"}
	g := &model.Gateway{Name: "g } {\n#"}
	tu := &pair.Tunnel{Ends: []pair.End{{Gateway: g, Connection: c}}}
	c.LocalAddrs.Value = model.Addresses{{Name: "x"}}
	text, err := mirror.Swanctl(mirror.Of(tu, tu.Ends[0]))
	if err == nil {
		assert.Equal(t, strings.Count(text, "{\n"), strings.Count(text, "}\n"), text)
	}
}

func TestEveryAlgorithmOfTheDaemonCanBeMirrored(t *testing.T) {
	for _, proposals := range []string{"serpent256-sha256-modp2048", "aes256gcm16-prfsha384-ecp384-ke1_mlkem768", "aes128-sha256-ntru128"} {
		e := load(
			t,
			fstest.MapFS{
				"g/swanctl.conf": {
					Data: []byte(
						"connections {\n a {\n  local_addrs = 192.0.2.1\n  remote_addrs = 198.51.100.7\n  proposals = " + proposals +
							"\n }\n}\n",
					),
				},
			},
		)
		text, err := mirror.Swanctl(mirror.Of(e.Tunnels[0], e.Tunnels[0].Ends[0]))
		require.NoError(t, err)
		back := load(t, fstest.MapFS{"h/swanctl.conf": {Data: []byte(text)}})
		mine, theirs := e.Gateways[0].Connections[0].Proposals.Value[0], back.Gateways[0].Connections[0].Proposals.Value[0]
		assert.Equal(t, mine.Transforms, theirs.Transforms, proposals)
	}
}

// TestNeverRenewedIsWritten: left out, the daemon would renew it by its default.
func TestNeverRenewedIsWritten(t *testing.T) {
	e := pair.End{Gateway: &model.Gateway{Name: "g"}, Connection: &model.Connection{Name: "a"}}
	peer := model.Say(model.Addresses{{Text: "192.0.2.1"}}, source.Pos{})
	far := &model.Connection{RemoteAddrs: peer, Children: []*model.Child{{Name: "c"}}}
	_, err := mirror.Swanctl(mirror.Sheet{For: e, Far: far})
	assert.ErrorContains(t, err, "192.0.2.1", "an address that was not read")
	far.RemoteAddrs.Value[0] = literal.Host("192.0.2.1")
	text, err := mirror.Swanctl(mirror.Sheet{For: e, Far: far})
	assert.NoError(t, err)
	assert.Contains(t, text, "rekey_time = 0s")
	far.Children[0].Proposals.Value = []ike.Proposal{{Protocol: ike.ESP}}
	far.Children[0].Proposals.Value[0].Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 4, 128)}
	_, err = mirror.Swanctl(mirror.Sheet{For: e, Far: far})
	assert.ErrorContains(t, err, "child c: ", "the daemon has no word for its cipher")
}
