package gateway_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/gateway"
	"toril/ike"
	"toril/packet"
	"toril/source"
)

func at(line int) source.Pos { return source.Pos{File: "g.conf", Line: line} }

func TestSettings(t *testing.T) {
	said, unsaid := gateway.Say(5, at(3)), gateway.Unsaid(7, "the daemon's default")
	assert.False(t, said.IsDefault())
	assert.True(t, unsaid.IsDefault())
	assert.Equal(t, at(3), said.Where(at(9)))
	assert.Equal(t, at(9), unsaid.Where(at(9)), "what nobody said has no line of its own")
	assert.Equal(t, "said", said.Origin.String())
	assert.Equal(t, "default", unsaid.Origin.String())
	assert.Equal(t, "the daemon's default", unsaid.Why)
}

func TestAddresses(t *testing.T) {
	one := gateway.Address{Lo: netip.MustParseAddr("198.51.100.1"), Hi: netip.MustParseAddr("198.51.100.1")}
	span := gateway.Address{Lo: netip.MustParseAddr("198.51.100.1"), Hi: netip.MustParseAddr("198.51.100.9")}
	a, ok := one.Single()
	assert.True(t, ok)
	assert.Equal(t, one.Lo, a)
	_, ok = span.Single()
	assert.False(t, ok)
	assert.True(t, span.Covers(netip.MustParseAddr("198.51.100.9")))
	assert.False(t, span.Covers(netip.MustParseAddr("198.51.100.10")))
	assert.Equal(t, []netip.Addr{one.Lo}, gateway.Addresses{span, one}.Fixed())
	assert.False(t, gateway.Addresses{one}.Any())
}

func TestLifetimes(t *testing.T) {
	c := &gateway.Connection{}
	c.Rekey = gateway.Say(4*time.Hour, at(2))
	c.Over = gateway.Say(24*time.Minute, at(3))
	assert.Equal(t, 4*time.Hour, c.Lifetime())
	assert.Equal(t, 4*time.Hour+24*time.Minute, c.Hard())
	assert.Equal(t, at(2), c.LifetimeSetting().Where(at(1)))
}

func TestStartActions(t *testing.T) {
	assert.True(t, gateway.StartTraffic.Traps())
	assert.True(t, gateway.StartBoth.Traps())
	assert.False(t, gateway.StartNever.Traps())
	assert.False(t, gateway.StartBoot.Traps())
	seen := map[string]bool{}
	for _, s := range []gateway.Start{gateway.StartNever, gateway.StartTraffic, gateway.StartBoot, gateway.StartBoth} {
		assert.NotEmpty(t, s.String())
		assert.False(t, seen[s.String()], "%s means two things", s)
		seen[s.String()] = true
	}
}

func TestVerbs(t *testing.T) {
	final := map[gateway.Verb]bool{gateway.Accept: true, gateway.Drop: true, gateway.Reject: true}
	for _, v := range []gateway.Verb{gateway.Continue, gateway.Accept, gateway.Drop, gateway.Reject, gateway.Jump, gateway.Goto, gateway.Return, gateway.SourceNAT, gateway.DestinationNAT, gateway.Masquerade, gateway.Redirect} {
		assert.NotEmpty(t, v.String())
		translates := v == gateway.SourceNAT || v == gateway.DestinationNAT || v == gateway.Masquerade || v == gateway.Redirect
		assert.Equal(t, translates, v.Translates(), v.String())
		if final[v] {
			assert.True(t, v.Final(), v.String())
		}
		if v == gateway.Continue || v == gateway.Jump {
			assert.False(t, v.Final(), v.String())
		}
	}
	assert.True(t, (&gateway.Rule{}).Certain())
	assert.False(t, (&gateway.Rule{Unsure: []string{"a condition of time"}}).Certain())
	assert.Equal(t, "inet filter forward", (&gateway.Chain{Family: "inet", Table: "filter", Name: "forward"}).ID())
}

func TestInterfacesAndRoutes(t *testing.T) {
	g := &gateway.Gateway{Name: "g"}
	lan := g.InterfaceOf("lan", at(1))
	assert.Same(t, lan, g.InterfaceOf("lan", at(7)), "one interface, however often it is named")
	assert.Equal(t, at(1), lan.At)
	net := netip.MustParsePrefix("10.1.0.1/24")
	lan.AddAddress(net)
	lan.AddAddress(net)
	assert.Equal(t, []netip.Prefix{net}, lan.Addresses, "the same address twice is one")
	lan.AddAddress(netip.MustParsePrefix("10.1.0.2/24"))
	assert.Len(t, lan.Addresses, 2)
	g.InterfaceOf("wan", at(2))
	require.Len(t, g.Interfaces, 2)
	r := &gateway.Route{At: at(3), To: netip.MustParsePrefix("10.2.0.0/16"), Dev: "wan", Kind: "unicast", Table: "main"}
	g.AddRoute(r)
	again := *r
	g.AddRoute(&again)
	assert.Len(t, g.Routes, 1, "a route that two files tell is one")
	other := *r
	other.Table = "7"
	g.AddRoute(&other)
	assert.Len(t, g.Routes, 2)
}

func TestNamedSets(t *testing.T) {
	g := &gateway.Gateway{}
	assert.Nil(t, g.Set("partners"))
	assert.True(t, g.AddSet(&gateway.NamedSet{Name: "partners", At: at(1)}))
	assert.False(t, g.AddSet(&gateway.NamedSet{Name: "partners", At: at(5)}), "the first one stays")
	require.NotNil(t, g.Set("partners"))
	assert.Equal(t, at(1), g.Set("partners").At)
}

func TestChildDomain(t *testing.T) {
	k := &gateway.Child{}
	k.Local = gateway.Say(ike.Selectors{ike.SelectPrefix(netip.MustParsePrefix("10.1.0.0/16"))}, at(1))
	k.Remote = gateway.Say(ike.Selectors{{Dynamic: true, HiPort: 65535}}, at(2))
	own, peer := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("203.0.113.9")
	want := packet.Prefixes(packet.Src, netip.MustParsePrefix("10.1.0.0/16")).And(packet.Range(packet.Dst, peer, peer))
	assert.True(t, want.Equal(k.Domain(own, peer)), "%s", k.Domain(own, peer))
	assert.False(t, k.RouteBased())
	k.IfIDOut = gateway.Say(uint32(42), at(3))
	assert.True(t, k.RouteBased())
}

func TestReplayWindow(t *testing.T) {
	assert.Equal(t, 32, gateway.Options{}.ReplayWindowOr(32), "nobody set it for the daemon as a whole")
}
