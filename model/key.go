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
// else the one whose owners fit the peer best, then itself. Of several as good the first; nil where none fits.
func (g *Gateway) KeyFor(c *Connection, own, peer []ike.Identity) *Key {
	var found *Key
	bestOwn, bestPeer := 0, 0
	for _, k := range g.Keys {
		switch {
		case k.PPK || k.Secret.IsZero() || k.For != nil && k.For != c:
			continue
		case k.For == c && c != nil:
			return k
		}
		o, p := k.fit(own), k.fit(peer)
		if o == 0 && p == 0 {
			continue
		}
		if found == nil || p > bestPeer || p == bestPeer && o > bestOwn {
			found, bestOwn, bestPeer = k, o, p
		}
	}
	return found
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
