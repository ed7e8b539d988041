package model

import (
	"slices"

	"toril/ike"
	"toril/source"
)

// Key is a pre-shared key.
type Key struct {
	At     source.Pos
	Name   string
	Secret source.Secret
	Owners []ike.Identity // whom it is for; none: for everybody
	For    *Connection    // the connection that it stands in, and is for alone; nil where it stands by itself
	PPK    bool           // a post-quantum pre-shared key
	Hash   bool           // the value is a digest of the key: its strength cannot be judged
}

// Given reports whether any of the gateway's pre-shared keys was handed over: they are often taken out.
func (g *Gateway) Given() bool {
	return slices.ContainsFunc(g.Keys, (*Key).Given)
}

// Given reports whether it is a pre-shared key of IKE's whose value was handed over.
func (k *Key) Given() bool { return !k.PPK && !k.Secret.IsZero() }

// KeyFor returns the pre-shared key that a connection takes for identities of its own and of its peer: its own where it has one,
// else the one whose owners fit the peer best, then itself. Of several as good the first; nil where none fits. The gateway must be
// complete.
func (g *Gateway) KeyFor(c *Connection, own, peer []ike.Identity) *Key {
	x := g.keyIndex()
	for _, at := range x.inside[c] {
		if k := g.Keys[at]; c != nil && !k.PPK && !k.Secret.IsZero() {
			return k
		}
	}
	var found *Key
	bestOwn, bestPeer := 0, 0
	try := func(list []int) {
		for _, at := range list {
			k := g.Keys[at]
			if k.PPK || k.Secret.IsZero() || k.For != nil {
				continue
			}
			o, p := k.fit(own), k.fit(peer)
			if o == 0 && p == 0 {
				continue
			}
			if found == nil || p > bestPeer || p == bestPeer && o > bestOwn {
				found, bestOwn, bestPeer = k, o, p
			}
		}
	}
	try(x.candidates(peer))
	if bestPeer == 0 { // no key is for the peer: one for itself
		found = nil
		try(x.candidates(own))
	}
	return found
}

// keyIndex finds keys by whom they are for, and connections by whom they expect; both by their places among the gateway's.
type keyIndex struct {
	owned  map[ike.Identity][]int // keys whose owners are all definite
	loose  []int                  // the others
	inside map[*Connection][]int  // keys that stand in a connection

	expecting map[ike.Identity][]int // connections by their peer's identity, and by its addresses
	open      []int                  // connections that expect no definite identity
}

func (g *Gateway) keyIndex() *keyIndex {
	x := &g.index.keys
	g.index.keysOnce.Do(func() {
		*x = keyIndex{owned: map[ike.Identity][]int{}, inside: map[*Connection][]int{}, expecting: map[ike.Identity][]int{}}
		for i, k := range g.Keys {
			if k.For != nil {
				x.inside[k.For] = append(x.inside[k.For], i)
			}
			if k.loose() {
				x.loose = append(x.loose, i)
				continue
			}
			for _, o := range k.Owners {
				x.owned[o] = append(x.owned[o], i)
			}
		}
		for i, c := range g.Connections {
			want := c.Remote.ID.Value
			if !want.Definite() {
				x.open = append(x.open, i)
				continue
			}
			x.expecting[want] = append(x.expecting[want], i)
			for _, a := range c.RemoteAddrs.Value.Fixed() {
				x.expecting[ike.Addr(a)] = append(x.expecting[ike.Addr(a)], i)
			}
		}
	})
	return x
}

// loose reports whether a key may be for others than its owners' very identities.
func (k *Key) loose() bool {
	return len(k.Owners) == 0 || slices.ContainsFunc(k.Owners, func(o ike.Identity) bool { return !o.Definite() })
}

// candidates are the keys that may be for some identities, in their order.
func (x *keyIndex) candidates(ids []ike.Identity) []int {
	lists := [][]int{x.loose}
	for _, id := range ids {
		lists = append(lists, x.owned[id])
	}
	return joined(lists...)
}

// joined makes one list in order of several, each number once.
func joined(lists ...[]int) []int {
	out := slices.Concat(lists...)
	slices.Sort(out)
	return slices.Compact(out)
}

// ServedBy returns the gateway's loaded connections that a key serves, in their order. The gateway must be complete.
func (g *Gateway) ServedBy(k *Key) []*Connection {
	if k.PPK || k.For != nil {
		if k.For != nil && slices.Contains(g.Connections, k.For) {
			return []*Connection{k.For}
		}
		return nil
	}
	var out []*Connection
	serves := func(c *Connection) {
		if k.Serves(c) {
			out = append(out, c)
		}
	}
	if k.loose() {
		for _, c := range g.Connections {
			serves(c)
		}
		return out
	}
	x := g.keyIndex()
	lists := [][]int{x.open}
	for _, o := range k.Owners {
		lists = append(lists, x.expecting[o])
	}
	for _, at := range joined(lists...) {
		serves(g.Connections[at])
	}
	return out
}

// Served reports whether any of the gateway's keys serves a connection. The gateway must be complete.
func (g *Gateway) Served(c *Connection) bool {
	x := g.keyIndex()
	serves := func(at int) bool { return g.Keys[at].Serves(c) }
	if slices.ContainsFunc(x.inside[c], serves) {
		return true
	}
	want := c.Remote.ID.Value
	if !want.Definite() {
		return slices.ContainsFunc(g.Keys, func(k *Key) bool { return k.Serves(c) })
	}
	ids := []ike.Identity{want}
	for _, a := range c.RemoteAddrs.Value.Fixed() {
		ids = append(ids, ike.Addr(a))
	}
	return slices.ContainsFunc(x.candidates(ids), serves)
}

// fit says how well a key's owners fit some identities: 20 exactly, 10 by a wildcard, 1 as anybody's, 0 not.
func (k *Key) fit(ids []ike.Identity) int {
	if len(k.Owners) == 0 {
		return 1
	}
	best := 0
	for _, id := range ids {
		for _, o := range k.Owners {
			switch {
			case o == id:
				best = max(best, 20)
			case o.Kind == ike.AnyID:
				best = max(best, 1)
			case o.Accepts(id):
				best = max(best, 10)
			}
		}
	}
	return best
}

// Serves reports whether a key may be the one that a connection takes for its peer, whatever that shows: its owners fit the
// identity that is expected. An address as the owner serves a peer of another identity under IKEv1 only, where the daemon knows
// nothing but the address when it needs the key.
func (k *Key) Serves(c *Connection) bool {
	if k.PPK || k.For != nil {
		return k.For == c && c != nil
	}
	if c.Remote.Method.Value != ike.PSK && c.Local.Method.Value != ike.PSK {
		return false
	}
	want := c.Remote.ID.Value
	var peer []ike.Identity
	if want.Definite() {
		peer = append(peer, want)
	} else if slices.ContainsFunc(k.Owners, want.Accepts) {
		return true
	}
	if c.Version.Value != ike.V2 || !want.Definite() {
		for _, a := range c.RemoteAddrs.Value.Fixed() {
			peer = append(peer, ike.Addr(a))
		}
	}
	return k.fit(peer) > 0
}
