package model_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/packet"
	"toril/source"
)

func at(line int) source.Pos { return source.Pos{File: "g.conf", Line: line} }

func TestSettings(t *testing.T) {
	said, unsaid := model.Say(5, at(3)), model.Unsaid(7, "the daemon's default")
	assert.False(t, said.IsDefault())
	assert.True(t, unsaid.IsDefault())
	assert.Equal(t, at(3), said.Where(at(9)))
	assert.Equal(t, at(9), unsaid.Where(at(9)), "what nobody said has no line of its own")
	assert.Equal(t, "said", said.Origin.String())
	assert.Equal(t, "default", unsaid.Origin.String())
	assert.Equal(t, "the daemon's default", unsaid.Why)
}

func TestAddresses(t *testing.T) {
	one := model.Address{Lo: netip.MustParseAddr("198.51.100.1"), Hi: netip.MustParseAddr("198.51.100.1")}
	span := model.Address{Lo: netip.MustParseAddr("198.51.100.1"), Hi: netip.MustParseAddr("198.51.100.9")}
	a, ok := one.Single()
	assert.True(t, ok)
	assert.Equal(t, one.Lo, a)
	_, ok = span.Single()
	assert.False(t, ok)
	assert.True(t, span.Covers(netip.MustParseAddr("198.51.100.9")))
	assert.False(t, span.Covers(netip.MustParseAddr("198.51.100.10")))
	assert.Equal(t, []netip.Addr{one.Lo}, model.Addresses{span, one}.Fixed())
	assert.False(t, model.Addresses{one}.Any())
}

func TestLifetimes(t *testing.T) {
	c := &model.Connection{}
	c.Rekey = model.Say(4*time.Hour, at(2))
	c.Over = model.Say(24*time.Minute, at(3))
	assert.Equal(t, 4*time.Hour, c.Lifetime())
	assert.Equal(t, 4*time.Hour+24*time.Minute, c.Hard())
	assert.Equal(t, at(2), c.LifetimeSetting().Where(at(1)))
}

func TestStartActions(t *testing.T) {
	assert.True(t, model.StartTraffic.Traps())
	assert.True(t, model.StartBoth.Traps())
	assert.False(t, model.StartNever.Traps())
	assert.False(t, model.StartBoot.Traps())
	seen := map[string]bool{}
	for _, s := range []model.Start{model.StartNever, model.StartTraffic, model.StartBoot, model.StartBoth} {
		assert.NotEmpty(t, s.String())
		assert.False(t, seen[s.String()], "%s means two things", s)
		seen[s.String()] = true
	}
}

func TestVerbs(t *testing.T) {
	final := map[model.Verb]bool{model.Accept: true, model.Drop: true, model.Reject: true}
	for _, v := range []model.Verb{model.Continue, model.Accept, model.Drop, model.Reject, model.Jump, model.Goto, model.Return,
		model.SourceNAT, model.DestinationNAT, model.Masquerade, model.Redirect} {
		assert.NotEmpty(t, v.String())
		translates := v == model.SourceNAT || v == model.DestinationNAT || v == model.Masquerade || v == model.Redirect
		assert.Equal(t, translates, v.Translates(), v.String())
		if final[v] {
			assert.True(t, v.Final(), v.String())
		}
		if v == model.Continue || v == model.Jump {
			assert.False(t, v.Final(), v.String())
		}
	}
	assert.True(t, (&model.Rule{}).Certain())
	assert.False(t, (&model.Rule{Doubts: model.Doubts{{Why: "a condition of time"}}}).Certain())
	assert.Equal(t, "inet filter forward", (&model.Chain{Family: "inet", Table: "filter", Name: "forward"}).ID())
}

func TestInterfacesAndRoutes(t *testing.T) {
	g := &model.Gateway{Name: "g"}
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
	r := &model.Route{At: at(3), To: netip.MustParsePrefix("10.2.0.0/16"), Dev: "wan", Kind: "unicast", Table: "main"}
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
	g := &model.Gateway{}
	assert.Nil(t, g.Set("partners"))
	assert.True(t, g.AddSet(&model.NamedSet{Name: "partners", At: at(1)}))
	assert.False(t, g.AddSet(&model.NamedSet{Name: "partners", At: at(5)}), "the first one stays")
	require.NotNil(t, g.Set("partners"))
	assert.Equal(t, at(1), g.Set("partners").At)
}

func TestChildDomain(t *testing.T) {
	k := &model.Child{}
	k.Local = model.Say(ike.Selectors{ike.SelectPrefix(netip.MustParsePrefix("10.1.0.0/16"))}, at(1))
	k.Remote = model.Say(ike.Selectors{{Dynamic: true, HiPort: 65535}}, at(2))
	own, peer := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("203.0.113.9")
	want := packet.Prefixes(packet.Src, netip.MustParsePrefix("10.1.0.0/16")).And(packet.Range(packet.Dst, peer, peer))
	assert.True(t, want.Equal(k.Domain(own, peer)), "%s", k.Domain(own, peer))
	assert.False(t, k.RouteBased())
	k.IfIDOut = model.Say(uint32(42), at(3))
	assert.True(t, k.RouteBased())
}

func TestVersionOf(t *testing.T) {
	g := &model.Gateway{Versions: []model.Version{{Software: "strongSwan", Number: "5.9.8"}, {Software: "strongSwan", Number: "5.9.1"}}}
	assert.Equal(t, "5.9.8", g.VersionOf("strongSwan"), "the first that says it")
	assert.Empty(t, g.VersionOf("Libreswan"))
}

// TestWhoShowsASubject: which identity goes out where a certificate does not name the one that is configured.
func TestWhoShowsASubject(t *testing.T) {
	subject := ike.DN("O=Harbour, CN=quay")
	g := &model.Gateway{Certs: []*model.Certificate{{At: source.Pos{File: "quay/x509/quay.pem"}, Subject: subject}}}
	c := &model.Connection{}
	c.Local.Method.Value = ike.Certificate
	c.Local.ID.Value = ike.FQDN("quay.example")
	c.Local.Certificates.Value = []string{"quay.pem"}
	shows := func() ike.Identity {
		id, ok := g.Shows(c, netip.Addr{})
		assert.True(t, ok)
		return id
	}
	assert.Equal(t, ike.FQDN("quay.example"), shows(), "it is shown as it is")
	c.Local.OrSubject = true
	assert.Equal(t, subject, shows())
	g.Certs[0].Names = []ike.Identity{ike.FQDN("quay.example")}
	assert.Equal(t, ike.FQDN("quay.example"), shows(), "the certificate names it")
	c.Local.ID.Value = ike.Identity{Kind: ike.NoID}
	assert.Equal(t, subject, shows(), "none is configured")
}

// TestTheAddressInside: where the default route leads, or the only one; none where a file does not tell of it.
func TestTheAddressInside(t *testing.T) {
	lan := &model.Interface{Name: "lan0", Addresses: []netip.Prefix{netip.MustParsePrefix("10.1.0.1/16")}}
	wan := &model.Interface{Name: "wan0", Addresses: []netip.Prefix{netip.MustParsePrefix("192.168.7.2/24")}}
	lo := &model.Interface{Name: "lo", Kind: "loopback", Addresses: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8")}}
	out := &model.Interface{Name: "wan0", Addresses: []netip.Prefix{netip.MustParsePrefix("198.51.100.7/24")}}
	dhcp := &model.Interface{Name: "wan0", Dynamic: true}
	by := func(dev string) *model.Route {
		return &model.Route{To: netip.MustParsePrefix("0.0.0.0/0"), Dev: dev, Kind: "unicast", Table: "main"}
	}
	for name, c := range map[string]struct {
		interfaces []*model.Interface
		routes     []*model.Route
		want       string
	}{
		"by the default route":           {[]*model.Interface{lo, lan, wan}, []*model.Route{by("wan0")}, "192.168.7.2"},
		"the only one":                   {[]*model.Interface{lo, wan}, nil, "192.168.7.2"},
		"two, and no route":              {[]*model.Interface{lan, wan}, nil, ""},
		"two routes":                     {[]*model.Interface{lan, wan}, []*model.Route{by("wan0"), by("lan0")}, ""},
		"a public one":                   {[]*model.Interface{lan, out}, []*model.Route{by("wan0")}, ""},
		"one that no file tells":         {[]*model.Interface{lan, dhcp}, []*model.Route{by("wan0")}, ""},
		"one that no file tells, either": {[]*model.Interface{lan, dhcp}, nil, ""},
		"nothing":                        {nil, nil, ""},
	} {
		g := &model.Gateway{Interfaces: c.interfaces, Routes: c.routes}
		got := ""
		if a := g.Inside(); a.IsValid() {
			got = a.String()
		}
		assert.Equal(t, c.want, got, name)
	}
	g := &model.Gateway{Interfaces: []*model.Interface{lan}}
	assert.True(t, g.Has(netip.MustParseAddr("10.1.0.1")))
	assert.False(t, g.Has(netip.MustParseAddr("10.1.0.2")))
}

// TestEarly: an audit is as of a day, and a certificate that was made on it holds.
func TestEarly(t *testing.T) {
	day := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		from time.Time
		want bool
	}{
		{day.Add(-time.Hour), false},
		{day.Add(18 * time.Hour), false},
		{day.Add(24*time.Hour - time.Second), false},
		{day.Add(24 * time.Hour), true},
	} {
		cert := &model.Certificate{From: c.from}
		assert.Equal(t, c.want, cert.Early(day), "%v", c.from)
		assert.Equal(t, c.want, cert.Early(day.Add(9*time.Hour)), "%v, asked at nine", c.from)
	}
}
