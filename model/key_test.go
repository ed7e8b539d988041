package model_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/ike"
	"toril/model"
	"toril/source"
)

var (
	addr1, addr2 = ike.Addr(netip.MustParseAddr("192.0.2.1")), ike.Addr(netip.MustParseAddr("192.0.2.2"))
	tern, plover = ike.FQDN("tern.example"), ike.FQDN("plover.example")
	anybody      = ike.Identity{Kind: ike.AnyID}
)

// TestTheKeyThatIsTaken: owners that fit the peer best win, then those that fit the gateway itself, then the first that is written.
func TestTheKeyThatIsTaken(t *testing.T) {
	conn := &model.Connection{Name: "c"}
	key := func(name string, owners ...ike.Identity) *model.Key {
		return &model.Key{Name: name, Secret: source.NewSecret("a secret of " + name), Owners: owners}
	}
	other := func(k *model.Key, change func(*model.Key)) *model.Key { change(k); return k }
	for _, c := range []struct {
		name      string
		keys      []*model.Key
		own, peer []ike.Identity
		want      string
	}{
		{"none", nil, []ike.Identity{tern}, []ike.Identity{plover}, ""},
		{"the peer's", []*model.Key{key("own", tern), key("peer", plover)}, []ike.Identity{tern}, []ike.Identity{plover}, "peer"},
		{"its own where none is the peer's", []*model.Key{key("own", tern), key("strange", addr1)}, []ike.Identity{tern},
			[]ike.Identity{plover}, "own"},
		{"nobody's fits nobody", []*model.Key{key("strange", addr1)}, []ike.Identity{tern}, []ike.Identity{plover}, ""},
		{"both rather than the peer alone", []*model.Key{key("peer", plover), key("both", tern, plover)}, []ike.Identity{tern},
			[]ike.Identity{plover}, "both"},
		{"without owners for all", []*model.Key{key("all")}, []ike.Identity{tern}, []ike.Identity{plover}, "all"},
		{"named before anybody's", []*model.Key{key("all"), key("any", anybody), key("peer", plover)}, []ike.Identity{tern},
			[]ike.Identity{plover}, "peer"},
		{"by the address where the name is not known yet", []*model.Key{key("name", tern), key("address", addr2)}, []ike.Identity{addr1},
			[]ike.Identity{addr2}, "address"},
		{"the first of two as good", []*model.Key{key("first", plover), key("second", plover)}, []ike.Identity{tern},
			[]ike.Identity{plover}, "first"},
		{"exactly before a wildcard", []*model.Key{key("wild", ike.FQDN("*.example")), key("exact", plover)}, []ike.Identity{addr1},
			[]ike.Identity{plover}, "exact"},
		{"a wildcard before anybody's", []*model.Key{key("all"), key("wild", ike.FQDN("*.example"))}, []ike.Identity{addr1},
			[]ike.Identity{plover}, "wild"},
		{"the connection's own before all", []*model.Key{key("peer", plover), other(key("inside"), func(k *model.Key) { k.For = conn })},
			[]ike.Identity{tern}, []ike.Identity{plover}, "inside"},
		{"not that of another connection",
			[]*model.Key{other(key("elsewhere", plover), func(k *model.Key) { k.For = &model.Connection{} })}, []ike.Identity{tern},
			[]ike.Identity{plover}, ""},
		{"not a post-quantum key", []*model.Key{other(key("ppk", plover), func(k *model.Key) { k.PPK = true })}, []ike.Identity{tern},
			[]ike.Identity{plover}, ""},
		{"not one whose secret was taken out",
			[]*model.Key{other(key("out", plover), func(k *model.Key) { k.Secret = source.NewSecret("") })}, []ike.Identity{tern},
			[]ike.Identity{plover}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			g := &model.Gateway{Keys: c.keys}
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
	conn := func(version ike.Version, id ike.Identity, method ike.Method) *model.Connection {
		at := netip.MustParseAddr("192.0.2.2")
		return &model.Connection{
			Version:     model.Setting[ike.Version]{Value: version},
			RemoteAddrs: model.Setting[model.Addresses]{Value: model.Addresses{{Lo: at, Hi: at}}},
			Remote:      model.Party{ID: model.Setting[ike.Identity]{Value: id}, Method: model.Setting[ike.Method]{Value: method}},
		}
	}
	own := conn(ike.V2, plover, ike.PSK)
	for _, c := range []struct {
		name string
		key  model.Key
		conn *model.Connection
		want bool
	}{
		{"its peer's name", model.Key{Owners: []ike.Identity{plover}}, own, true},
		{"another's name", model.Key{Owners: []ike.Identity{tern}}, own, false},
		{"everybody's", model.Key{}, own, true},
		{"the address of a peer with a name, IKEv2", model.Key{Owners: []ike.Identity{addr2}}, own, false},
		{"the address of a peer with a name, IKEv1", model.Key{Owners: []ike.Identity{addr2}}, conn(ike.V1, plover, ike.PSK), true},
		{"the address of a peer of any name", model.Key{Owners: []ike.Identity{addr2}}, conn(ike.V2, anybody, ike.PSK), true},
		{"a name for a peer of any name", model.Key{Owners: []ike.Identity{tern}}, conn(ike.V2, anybody, ike.PSK), true},
		{"a connection with certificates", model.Key{Owners: []ike.Identity{plover}}, conn(ike.V2, plover, ike.Certificate), false},
		{"its own connection", model.Key{For: own}, own, true},
		{"another connection", model.Key{For: own}, conn(ike.V2, plover, ike.PSK), false},
		{"a post-quantum key", model.Key{PPK: true, Owners: []ike.Identity{plover}}, own, false},
	} {
		assert.Equal(t, c.want, c.key.Serves(c.conn), c.name)
	}
}

func TestKeysThatWereHandedOver(t *testing.T) {
	out, ppk := &model.Key{}, &model.Key{PPK: true, Secret: source.NewSecret("x")}
	assert.False(t, (&model.Gateway{Keys: []*model.Key{out, ppk}}).Given(), "taken out, and a post-quantum one")
	assert.True(t, (&model.Gateway{Keys: []*model.Key{out, {Secret: source.NewSecret("x")}}}).Given())
}
