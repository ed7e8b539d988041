package walk_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/packet"
	"toril/read/phrasebook"
	"toril/read/readtest"
	"toril/walk"
)

// ordered is a made-up language of a gateway that publishes a server and masks what leaves.
const ordered = `language: dotterel
title: Dotterel
syntax: {kind: lines}
order: [ORDER]
vocabulary: {action: {let: accept}}
defaults: [{sets: start, value: traffic, source: x}]
chains: [{name: across, hook: forward, policy: drop}]
phrases:
- {say: "jack <i> <a:prefix>", interface: {name: <i>, address: <a>}}
- {say: "way <n:network> by <g:address>", route: {to: <n>, via: <g>}}
- {say: "<v:action> to <n:network>", rule: {chain: across, action: <v>, to: <n>}}
- {say: "<v:action> from <n:network>", rule: {chain: across, action: <v>, from: <n>}}
- {say: "bring <a:address> to <b:address>", translation: {kind: destination, to: <a>, onto: <b>}}
- {say: "mask <a:network> as <b:network>", translation: {kind: source, from: <a>, onto: <b>}}
- {say: "span <p:address> <a:network> <b:network>", makes: connection, sets: {peer-address: <p>, own-networks: <a>, peer-networks: <b>}}
`

// ofOrder is a gateway that works in an order of the list that phrasebooks choose from.
func ofOrder(t *testing.T, order string) *walk.Path {
	b, err := phrasebook.Load("b.yaml", []byte(strings.Replace(ordered, "ORDER", strings.ReplaceAll(order, " ", ", "), 1)))
	require.NoError(t, err)
	g := readtest.Read(b.Format(), "x", "jack wan 192.0.2.1/24\njack lan 10.1.0.1/16\nway 0.0.0.0/0 by 192.0.2.254\nlet to 192.0.2.9\n"+
		"let from 10.1.0.0/16\nbring 192.0.2.9 to 10.1.0.9\nbring 192.0.2.8 to 10.1.0.8\nmask 10.1.0.0/16 as 192.0.2.7\n"+
		"span 198.51.100.1 10.1.0.0/16 10.2.0.0/16\nspan 198.51.100.2 192.0.2.7 10.3.0.0/16\n", nil)
	require.Empty(t, readtest.Unread(g))
	g.Resolve()
	return walk.NewPath(g, func(c *model.Connection) []walk.Ends {
		return []walk.Ends{{Own: netip.MustParseAddr("192.0.2.1"), Peer: c.RemoteAddrs.Value.Fixed()[0]}}
	}, walk.Options{})
}

// becomes is what becomes of packets from one address to another.
func becomes(p *walk.Path, in, from, to string) string {
	a, b := netip.MustParseAddr(from), netip.MustParseAddr(to)
	s := packet.Range(packet.Src, a, a).And(packet.Range(packet.Dst, b, b)).With(packet.Proto, packet.OneOf(6)).
		With(packet.Dport, packet.OneOf(443)).With(packet.Sport, packet.OneOf(50000))
	var out []string
	for _, o := range p.Forward(walk.Fresh(s, in)) {
		w, _ := o.Now.Witness()
		what := string(o.Fate) + " " + w.Src.String() + " > " + w.Dst.String()
		if o.Policy != nil {
			what += " to " + o.Policy.Peer.String()
		}
		out = append(out, what)
	}
	return strings.Join(out, "; ")
}

// steps are what is done to packets for the published server, in the order in which it is told.
func steps(p *walk.Path) string {
	a, b := netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("192.0.2.9")
	var out []string
	for _, o := range p.Forward(walk.Fresh(packet.Range(packet.Src, a, a).And(packet.Range(packet.Dst, b, b)), "wan")) {
		for _, s := range o.Steps {
			if s.Rule != nil || s.Chain != nil {
				out = append(out, s.Stage+" "+strings.Split(s.What, " to ")[0])
			}
		}
	}
	return strings.Join(out, ", ")
}

// TestOrdersOfWork: each order that a phrasebook may choose does with packets what it says.
func TestOrdersOfWork(t *testing.T) {
	const lan, wan = "lan", "wan"
	for order, want := range map[string]struct{ published, hidden, tunnel, translated string }{
		"destination access source tunnel": {
			"dropped 203.0.113.9 > 10.1.0.9", "dropped 203.0.113.9 > 10.1.0.8",
			"in clear 192.0.2.7 > 10.2.0.5", "encrypted 192.0.2.7 > 10.3.0.5 to 198.51.100.2",
		},
		"access destination source tunnel": {
			"in clear 203.0.113.9 > 10.1.0.9", "dropped 203.0.113.9 > 10.1.0.8",
			"in clear 192.0.2.7 > 10.2.0.5", "encrypted 192.0.2.7 > 10.3.0.5 to 198.51.100.2",
		},
		"destination access tunnel source": {
			"dropped 203.0.113.9 > 10.1.0.9", "dropped 203.0.113.9 > 10.1.0.8",
			"encrypted 10.1.0.5 > 10.2.0.5 to 198.51.100.1", "in clear 192.0.2.7 > 10.3.0.5",
		},
		"access destination tunnel source": {
			"in clear 203.0.113.9 > 10.1.0.9", "dropped 203.0.113.9 > 10.1.0.8",
			"encrypted 10.1.0.5 > 10.2.0.5 to 198.51.100.1", "in clear 192.0.2.7 > 10.3.0.5",
		},
	} {
		require.Contains(t, phrasebook.Orders(), order)
		p := ofOrder(t, order)
		assert.Equal(
			t,
			want.published,
			becomes(p, wan, "203.0.113.9", "192.0.2.9"),
			"%s: a server is published, and the rules name its outer address",
			order,
		)
		assert.Equal(t, want.hidden, becomes(p, wan, "203.0.113.9", "192.0.2.8"), "%s: no rule is for it", order)
		assert.Equal(t, want.tunnel, becomes(p, lan, "10.1.0.5", "10.2.0.5"), "%s: the tunnel is for what the source was", order)
		assert.Equal(t, want.translated, becomes(p, lan, "10.1.0.5", "10.3.0.5"), "%s: the tunnel is for what the source becomes", order)
	}
	assert.Len(t, phrasebook.Orders(), 4)
	for order, want := range map[string]string{
		"destination access source tunnel": "prerouting destination NAT, forward policy drop",
		"access destination source tunnel": "forward accept, prerouting destination NAT",
	} {
		assert.Contains(t, steps(ofOrder(t, order)), want, "told as it is done: %s", order)
	}
}
