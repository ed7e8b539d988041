package gateway_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/gateway"
	"toril/ike"
	"toril/source"
)

var (
	addr1, addr2 = ike.Addr(netip.MustParseAddr("192.0.2.1")), ike.Addr(netip.MustParseAddr("192.0.2.2"))
	tern, plover = ike.FQDN("tern.example"), ike.FQDN("plover.example")
	anybody      = ike.Identity{Kind: ike.AnyID}
)

// TestTheKeyThatIsTaken: owners that fit the peer best win, then those that fit the gateway itself, then the first that is written.
func TestTheKeyThatIsTaken(t *testing.T) {
	conn := &gateway.Connection{Name: "c"}
	key := func(name string, owners ...ike.Identity) *gateway.Key {
		return &gateway.Key{Name: name, Secret: source.NewSecret("a secret of " + name), Owners: owners}
	}
	other := func(k *gateway.Key, change func(*gateway.Key)) *gateway.Key { change(k); return k }
	for _, c := range []struct {
		name      string
		keys      []*gateway.Key
		own, peer []ike.Identity
		want      string
	}{
		{"none", nil, []ike.Identity{tern}, []ike.Identity{plover}, ""},
		{"the peer's", []*gateway.Key{key("own", tern), key("peer", plover)}, []ike.Identity{tern}, []ike.Identity{plover}, "peer"},
		{"its own where none is the peer's", []*gateway.Key{key("own", tern), key("strange", addr1)}, []ike.Identity{tern}, []ike.Identity{plover}, "own"},
		{"nobody's fits nobody", []*gateway.Key{key("strange", addr1)}, []ike.Identity{tern}, []ike.Identity{plover}, ""},
		{"both rather than the peer alone", []*gateway.Key{key("peer", plover), key("both", tern, plover)}, []ike.Identity{tern}, []ike.Identity{plover}, "both"},
		{"without owners for all", []*gateway.Key{key("all")}, []ike.Identity{tern}, []ike.Identity{plover}, "all"},
		{"named before anybody's", []*gateway.Key{key("all"), key("any", anybody), key("peer", plover)}, []ike.Identity{tern}, []ike.Identity{plover}, "peer"},
		{"by the address where the name is not known yet", []*gateway.Key{key("name", tern), key("address", addr2)}, []ike.Identity{addr1}, []ike.Identity{addr2}, "address"},
		{"the first of two as good", []*gateway.Key{key("first", plover), key("second", plover)}, []ike.Identity{tern}, []ike.Identity{plover}, "first"},
		{"exactly before a wildcard", []*gateway.Key{key("wild", ike.FQDN("*.example")), key("exact", plover)}, []ike.Identity{addr1}, []ike.Identity{plover}, "exact"},
		{"a wildcard before anybody's", []*gateway.Key{key("all"), key("wild", ike.FQDN("*.example"))}, []ike.Identity{addr1}, []ike.Identity{plover}, "wild"},
		{"the connection's own before all", []*gateway.Key{key("peer", plover), other(key("inside"), func(k *gateway.Key) { k.For = conn })}, []ike.Identity{tern}, []ike.Identity{plover}, "inside"},
		{"not that of another connection", []*gateway.Key{other(key("elsewhere", plover), func(k *gateway.Key) { k.For = &gateway.Connection{} })}, []ike.Identity{tern}, []ike.Identity{plover}, ""},
		{"not a post-quantum key", []*gateway.Key{other(key("ppk", plover), func(k *gateway.Key) { k.PPK = true })}, []ike.Identity{tern}, []ike.Identity{plover}, ""},
		{"not one whose secret was taken out", []*gateway.Key{other(key("out", plover), func(k *gateway.Key) { k.Secret = source.NewSecret("") })}, []ike.Identity{tern}, []ike.Identity{plover}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			g := &gateway.Gateway{Keys: c.keys}
			got := ""
			if k := g.KeyFor(conn, c.own, c.peer); k != nil {
				got = k.Name
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// TestWhomAKeyServes: a key may be the one for a connection if its owners fit the peer that is expected there.
func TestWhomAKeyServes(t *testing.T) {
	conn := func(version ike.Version, id ike.Identity, method ike.Method) *gateway.Connection {
		at := netip.MustParseAddr("192.0.2.2")
		return &gateway.Connection{Version: gateway.Setting[ike.Version]{Value: version}, RemoteAddrs: gateway.Setting[gateway.Addresses]{Value: gateway.Addresses{{Lo: at, Hi: at}}},
			Remote: gateway.Party{ID: gateway.Setting[ike.Identity]{Value: id}, Method: gateway.Setting[ike.Method]{Value: method}}}
	}
	own := conn(ike.V2, plover, ike.PSK)
	for _, c := range []struct {
		name string
		key  gateway.Key
		conn *gateway.Connection
		want bool
	}{
		{"its peer's name", gateway.Key{Owners: []ike.Identity{plover}}, own, true},
		{"another's name", gateway.Key{Owners: []ike.Identity{tern}}, own, false},
		{"everybody's", gateway.Key{}, own, true},
		{"the address of a peer with a name, IKEv2", gateway.Key{Owners: []ike.Identity{addr2}}, own, false},
		{"the address of a peer with a name, IKEv1", gateway.Key{Owners: []ike.Identity{addr2}}, conn(ike.V1, plover, ike.PSK), true},
		{"the address of a peer of any name", gateway.Key{Owners: []ike.Identity{addr2}}, conn(ike.V2, anybody, ike.PSK), true},
		{"a name for a peer of any name", gateway.Key{Owners: []ike.Identity{tern}}, conn(ike.V2, anybody, ike.PSK), true},
		{"a connection with certificates", gateway.Key{Owners: []ike.Identity{plover}}, conn(ike.V2, plover, ike.Certificate), false},
		{"its own connection", gateway.Key{For: own}, own, true},
		{"another connection", gateway.Key{For: own}, conn(ike.V2, plover, ike.PSK), false},
		{"a post-quantum key", gateway.Key{PPK: true, Owners: []ike.Identity{plover}}, own, false},
	} {
		assert.Equal(t, c.want, c.key.Serves(c.conn), c.name)
	}
}

func TestKeysThatWereHandedOver(t *testing.T) {
	out, ppk := &gateway.Key{}, &gateway.Key{PPK: true, Secret: source.NewSecret("x")}
	assert.False(t, (&gateway.Gateway{Keys: []*gateway.Key{out, ppk}}).Given(), "taken out, and a post-quantum one")
	assert.True(t, (&gateway.Gateway{Keys: []*gateway.Key{out, {Secret: source.NewSecret("x")}}}).Given())
}
