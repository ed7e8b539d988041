package model_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/ike"
	"toril/model"
	"toril/source"
)

// someKeys makes a gateway of connections and keys that often have to do with each other.
func someKeys(r *rand.Rand) *model.Gateway {
	identity := func() ike.Identity {
		switch r.IntN(6) {
		case 0:
			return ike.Identity{Kind: ike.AnyID}
		case 1:
			return ike.Identity{}
		case 2:
			return ike.Addr(netip.AddrFrom4([4]byte{192, 0, 2, byte(r.IntN(3))}))
		case 3:
			return ike.Identity{Kind: ike.IDFQDN, Value: "*.example"}
		}
		return ike.Identity{Kind: ike.IDFQDN, Value: fmt.Sprintf("%c.example", 'a'+r.IntN(3))}
	}
	g := &model.Gateway{Name: "g"}
	for i := range 6 {
		c := &model.Connection{Name: fmt.Sprint(i), Number: i}
		c.Local.Method.Value = []ike.Method{ike.PSK, ike.PSK, ike.Certificate}[r.IntN(3)]
		c.Version.Value = []ike.Version{ike.V1, ike.V2}[r.IntN(2)]
		c.Remote.ID.Value, c.Local.ID.Value = identity(), identity()
		c.Daemon.Keys.OfBoth = r.IntN(3) == 0
		if r.IntN(2) == 0 {
			a := netip.AddrFrom4([4]byte{192, 0, 2, byte(r.IntN(3))})
			c.LocalAddrs.Value = model.Addresses{{Text: a.String(), Lo: a, Hi: a}}
		}
		if r.IntN(2) == 0 {
			a := netip.AddrFrom4([4]byte{192, 0, 2, byte(r.IntN(3))})
			c.RemoteAddrs.Value = model.Addresses{{Text: a.String(), Lo: a, Hi: a}}
		}
		g.Connections = append(g.Connections, c)
	}
	for i := range 8 {
		k := &model.Key{Name: fmt.Sprint(i), Secret: source.NewSecret("s" + fmt.Sprint(i)), PPK: r.IntN(8) == 0}
		for range r.IntN(3) {
			k.Owners = append(k.Owners, identity())
		}
		if r.IntN(6) == 0 {
			k.For = g.Connections[r.IntN(len(g.Connections))]
		}
		g.Keys = append(g.Keys, k)
	}
	return g
}

// TestKeysAreFoundAsByAskingEach: what is looked up is what asking every key about every connection finds.
func TestKeysAreFoundAsByAskingEach(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	served := 0
	for range 400 {
		g := someKeys(r)
		for _, k := range g.Keys {
			var want []*model.Connection
			for _, c := range g.Connections {
				if k.Serves(c) {
					want = append(want, c)
				}
			}
			served += len(want)
			assert.Equal(t, want, g.ServedBy(k))
		}
		for _, c := range g.Connections {
			assert.Equal(t, slices.ContainsFunc(g.Keys, func(k *model.Key) bool { return k.MayServe(c) }), g.Served(c))
		}
	}
	assert.Greater(t, served, 1000)
}
