package model

import (
	"net/netip"
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
	Coded  bool           // the value was written as bits, not as a text

	Refused *source.Error // why its daemon does not take it; nil where it does
}

// Given reports whether any of the gateway's pre-shared keys was handed over: they are often taken out.
func (g *Gateway) Given() bool {
	return slices.ContainsFunc(g.Keys, (*Key).Given)
}

// Given reports whether it is a pre-shared key of IKE's whose value was handed over.
func (k *Key) Given() bool { return !k.PPK && !k.Secret.IsZero() }

// KeyFor returns the pre-shared key that a connection takes for identities of its own and of its peer: its own where it has one,
// else the one whose owners fit the peer best, then itself. Of several as good the first, or the last where its daemon takes that; nil
// where none fits. The gateway must be complete.
func (g *Gateway) KeyFor(c *Connection, own, peer []ike.Identity) *Key {
	x := g.keyIndex()
	for _, at := range x.inside[c] {
		if k := g.Keys[at]; c != nil && k.Given() && k.Refused == nil {
			return k
		}
	}
	both := c != nil && c.Daemon.Keys.OfBoth
	last := c != nil && c.Daemon.Keys.Latest
	var found *Key
	bestOwn, bestPeer := 0, 0
	try := func(list []int) {
		for _, at := range list {
			k := g.Keys[at]
			if !k.Given() || k.Refused != nil || k.For != nil {
				continue
			}
			o, p, ok := k.fits(own, peer, both)
			better := p > bestPeer || p == bestPeer && (o > bestOwn || last && o == bestOwn)
			if both { // one that names the own end comes before one that names the peer and anybody
				better = o > bestOwn || o == bestOwn && p > bestPeer
			}
			if ok && (found == nil || better) {
				found, bestOwn, bestPeer = k, o, p
			}
		}
	}
	if both {
		try(joined(x.candidates(peer), x.alone(own)))
		return found
	}
	try(x.candidates(peer))
	if bestPeer == 0 { // no key is for the peer: one for itself
		found = nil
		try(x.candidates(own))
	}
	return found
}

// HasKey reports whether any key that fits identities of a connection's own or of its peer has the secret of another. The gateway must be
// complete.
func (g *Gateway) HasKey(c *Connection, own, peer []ike.Identity, secret source.Secret) bool {
	x := g.keyIndex()
	return slices.ContainsFunc(x.candidates(slices.Concat(own, peer)), func(at int) bool {
		k := g.Keys[at]
		if !k.Given() || k.Refused != nil || k.For != nil && k.For != c || k.Secret.Fingerprint() != secret.Fingerprint() {
			return false
		}
		_, _, ok := k.fits(own, peer, c.Daemon.Keys.OfBoth)
		return ok
	})
}

// fits says how well a key's owners fit identities of an end and of its peer, as fit does; ok is false where it is not for them. Both says
// that it must be for both ends, as Daemon.Keys.OfBoth does.
func (k *Key) fits(own, peer []ike.Identity, both bool) (o, p int, ok bool) {
	o, p = k.fit(own), k.fit(peer)
	switch {
	case !both:
		return o, p, o > 0 || p > 0
	case len(k.Owners) == 0:
		return 0, 0, true
	case len(k.Owners) == 1: // its own, for any peer
		return o, 0, o > 0
	}
	return o, p, o > 0 && p > 0
}

// keyIndex finds keys by whom they are for, and connections by whom they expect; both by their places among the gateway's.
type keyIndex struct {
	owned  map[ike.Identity][]int // keys whose owners are all definite
	loose  []int                  // the others
	inside map[*Connection][]int  // keys that stand in a connection

	own    map[ike.Identity][]int // keys with this owner alone
	shows  map[ike.Identity][]int // connections by their own identity, and by their addresses
	expect map[ike.Identity][]int // and by those of their peer
	open   []int                  // connections that expect no definite identity, or do not say what they show
}

func (g *Gateway) keyIndex() *keyIndex {
	x := &g.index.keys
	g.index.keysOnce.Do(func() {
		*x = keyIndex{owned: map[ike.Identity][]int{}, inside: map[*Connection][]int{}, own: map[ike.Identity][]int{},
			shows: map[ike.Identity][]int{}, expect: map[ike.Identity][]int{}}
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
			if len(k.Owners) == 1 {
				x.own[k.Owners[0]] = append(x.own[k.Owners[0]], i)
			}
		}
		for i, c := range g.Connections {
			own, peer, open := c.names()
			if open {
				x.open = append(x.open, i)
			}
			for _, id := range own {
				x.shows[id] = append(x.shows[id], i)
			}
			for _, id := range peer {
				x.expect[id] = append(x.expect[id], i)
			}
		}
	})
	return x
}

// names are the identities by which a key may be found for a connection, as far as it says: its own and its peer's, and the addresses in
// their place where the daemon may know no more. Open says that either may be another.
func (c *Connection) names() (own, peer []ike.Identity, open bool) {
	add := func(id ike.Identity, as Addresses) (ids []ike.Identity) {
		if id.Definite() {
			ids = append(ids, id)
		}
		if c.Version.Value != ike.V2 && !c.Daemon.Keys.OfBoth || !id.Definite() {
			for _, a := range as.Fixed() {
				ids = append(ids, ike.Addr(a))
			}
		}
		return ids
	}
	own, peer = add(c.Local.ID.Value, c.LocalAddrs.Value), add(c.Remote.ID.Value, c.RemoteAddrs.Value)
	return own, peer, len(own) == 0 || !c.Remote.ID.Value.Definite()
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

// alone are the keys that some identity alone owns.
func (x *keyIndex) alone(ids []ike.Identity) []int {
	var lists [][]int
	for _, id := range ids {
		lists = append(lists, x.own[id])
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
	var all []int // connections that may be all of its owners: the fewest that may be one
	for i, o := range k.Owners {
		lists = append(lists, x.expect[o])
		if shows := x.shows[o]; i == 0 || len(shows) < len(all) {
			all = shows
		}
	}
	lists = append(lists, all)
	for _, at := range joined(lists...) {
		serves(g.Connections[at])
	}
	return out
}

// Served reports whether any of the gateway's keys serves a connection, or would in want of a better one. The gateway must be complete.
func (g *Gateway) Served(c *Connection) bool {
	x := g.keyIndex()
	serves := func(at int) bool { return g.Keys[at].MayServe(c) }
	if slices.ContainsFunc(x.inside[c], serves) {
		return true
	}
	own, peer, open := c.names()
	if open {
		return slices.ContainsFunc(g.Keys, func(k *Key) bool { return k.MayServe(c) })
	}
	if slices.ContainsFunc(x.candidates(peer), serves) || slices.ContainsFunc(x.alone(own), serves) {
		return true
	}
	return !c.Daemon.Keys.OfBoth && slices.ContainsFunc(own, func(id ike.Identity) bool { return slices.ContainsFunc(x.owned[id], serves) })
}

// fit says how well a key's owners fit some identities: 20 exactly, 10 by a wildcard, 1 as anybody's, 0 not.
func (k *Key) fit(ids []ike.Identity) int {
	if len(k.Owners) == 0 {
		return 1
	}
	best := 0
	for _, o := range k.Owners {
		if o.Kind == ike.AnyID {
			best = max(best, 1)
			continue
		}
		for _, id := range ids {
			switch {
			case o == id:
				best = max(best, 20)
			case o.Accepts(id):
				best = max(best, 10)
			}
		}
	}
	return best
}

// Serves reports whether a key may be the one that a connection takes for its peer, whatever that shows: its owners fit the identity that
// is expected, or are the connection's own alone. An address as the owner serves an end of another identity under IKEv1 only, where the
// daemon may know nothing but the address when it needs the key.
func (k *Key) Serves(c *Connection) bool {
	forPeer, own := k.serves(c)
	return forPeer || own > 0 && own == len(k.Owners)
}

// MayServe reports whether a connection takes a key if there is none that serves it better.
func (k *Key) MayServe(c *Connection) bool {
	forPeer, own := k.serves(c)
	return forPeer || own > 0
}

// serves says whether a key may be for a connection's peer, and how many of its owners are the connection's own names.
func (k *Key) serves(c *Connection) (forPeer bool, own int) {
	want := c.Remote.ID.Value
	switch {
	case k.PPK || k.For != nil:
		return k.For == c, 0
	case c.Remote.Method.Value != ike.PSK && c.Local.Method.Value != ike.PSK:
		return false, 0
	case len(k.Owners) == 0 || !want.Definite() && slices.ContainsFunc(k.Owners, want.Accepts):
		return true, 0
	}
	mine, theirs, _ := c.names()
	if c.Daemon.Keys.OfBoth {
		_, _, ok := k.fits(mine, theirs, true)
		return ok || len(mine) == 0, 0
	}
	others := c.RemoteAddrs.Value.Fixed()
	for _, o := range k.Owners {
		of := func(a netip.Addr) bool { return ike.Addr(a) == o }
		unsaid := len(mine) == 0 && o.Kind == ike.IDAddr // which address it sends from
		if unsaid && !slices.ContainsFunc(others, of) || slices.Contains(mine, o) {
			own++
		}
	}
	return k.fit(theirs) > 0, own
}
