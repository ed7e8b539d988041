package walk_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab/cases"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

func TestWithoutIsAPathThatWasMadeWithoutTheSA(t *testing.T) {
	for _, start := range []string{"", "start_action = start", "start_action = trap"} {
		for _, rules := range []string{"", cases.Nat(`oifname "wan0" masquerade`),
			cases.Forward("ip daddr 10.2.0.0/24 rt ipsec missing drop")} {
			e, g := gatewayOf(t, start, rules, "blackhole 10.2.0.128/25\n")
			child := g.Connections[0].Children[0]
			up := walk.NewPath(g, e.Ends(g), walk.Options{})
			down := walk.NewPath(g, e.Ends(g), walk.Options{Down: func(k *model.Child) bool { return k == child }})
			for _, to := range []string{"10.2.0.5", "10.2.0.200", "192.0.2.1"} {
				f := walk.Fresh(ping("10.1.0.10", to), "lan0")
				assert.Equal(t, say(down.Forward(f)), say(up.Without(child).Forward(f)), "%q %q %s", start, rules, to)
			}
			assert.Equal(
				t,
				say(walk.NewPath(g, e.Ends(g), walk.Options{}).Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))),
				say(up.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))),
				"the path itself is as it was",
			)
		}
	}
}

func TestRoutesOfTheDaemon(t *testing.T) {
	e, g := gatewayOf(t, "", "", "")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	to := packet.Prefixes(packet.Dst, netip.MustParsePrefix("10.2.0.0/24"))
	var installed, own int
	for _, part := range p.Routes(to) {
		r := part.Route
		if p.InstalledFor(r) != nil {
			installed++
			assert.Equal(t, "220", r.Table)
			assert.Equal(t, "wan0", r.Dev)
		}
	}
	for _, part := range p.OwnRoutes(to) {
		if p.InstalledFor(part.Route) != nil {
			own++
		}
	}
	assert.Equal(t, 1, installed)
	assert.Zero(t, own, "the gateway's own routes are without those of the daemon")
	assert.True(t, p.Known())
}

func TestAnswers(t *testing.T) {
	e, g := gatewayOf(
		t,
		"",
		cases.Nat(
			`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`,
		)+cases.Forward(
			"ct state established,related accept; iifname lan0 accept; drop",
		),
		"",
	)
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	first := packet.Packet{
		Family: packet.IPv4,
		Src:    netip.MustParseAddr("10.1.0.10"),
		Dst:    netip.MustParseAddr("192.0.2.7"),
		Proto:  6,
		Sport:  50000,
		Dport:  443,
		In:     "lan0",
		State:  packet.New,
	}
	last := first
	last.Src, last.Sport = netip.MustParseAddr("198.51.100.1"), 61000
	os := p.Reply(first, last, "wan0", netip.Addr{})
	require.Len(t, os, 1)
	assert.Equal(t, walk.Clear, os[0].Fate)
	assert.Equal(t, "lan0", os[0].Out)
	w, ok := os[0].Now.Witness()
	require.True(t, ok)
	assert.Equal(t, "tcp 192.0.2.7:443 > 10.1.0.10:50000", w.String(), "the translation is undone")
	for _, s := range os[0].Steps {
		assert.NotEqual(t, "policy", s.Stage, "no policy decides of it, before it is translated back or behind")
	}

	tunnelled := first
	tunnelled.Dst = netip.MustParseAddr("10.2.0.5")
	os = p.Reply(tunnelled, tunnelled, "wan0", netip.MustParseAddr("203.0.113.9"))
	require.Len(t, os, 1)
	assert.Equal(t, walk.Clear, os[0].Fate)
	os = p.Reply(tunnelled, tunnelled, "wan0", netip.Addr{})
	require.Len(t, os, 1)
	assert.Equal(t, "dropped in policy", os[0].String(), "an answer in the clear where the tunnel's is expected")
}

func TestOwnAnswers(t *testing.T) {
	e, g := gatewayOf(
		t,
		"",
		"table inet f {\nchain out {\ntype filter hook output priority 0; policy drop;\nct state established accept\n"+
			"meta l4proto esp accept\n}\n}\n",
		"",
	)
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	q := packet.Packet{
		Family: packet.IPv4,
		Src:    netip.MustParseAddr("10.2.0.5"),
		Dst:    netip.MustParseAddr("10.1.0.1"),
		Proto:  1,
		ICMP:   8 << 8,
		State:  packet.New,
	}
	os := p.ReplySelf(q, q)
	require.Len(t, os, 1)
	assert.Equal(t, walk.Encrypted, os[0].Fate)
	w, _ := os[0].Now.Witness()
	assert.Equal(t, "icmp 10.1.0.1 > 10.2.0.5 type 0", w.String())
	assert.Equal(t, "dropped in output", say(p.Local(ping("10.1.0.1", "10.2.0.5"))), "what the gateway begins itself is another thing")
}
