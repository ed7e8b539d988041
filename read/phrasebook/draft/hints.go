package draft

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
)

// hint is what a far end is configured to: what must stand here, then, and as which setting.
type hint struct {
	setting string
	why     string
}

// hints are values that the far ends tell, by their kinds.
type hints struct {
	addresses  map[netip.Addr][]hint
	networks   map[netip.Prefix][]hint
	identities map[string][]hint
	secrets    []secretHint
	times      map[time.Duration][]hint
}

type secretHint struct {
	key *model.Key
	why string
}

// hintsOf looks for connections of known gateways of which this device is the far end: their peer is at an address of its interfaces. Where
// the samples tell of none, they name an address of the connection and a network of it.
func hintsOf(known []*model.Gateway, w *drafter) *hints {
	h := &hints{addresses: map[netip.Addr][]hint{}, networks: map[netip.Prefix][]hint{}, identities: map[string][]hint{},
		times: map[time.Duration][]hint{}}
	for _, g := range known {
		for _, c := range g.Connections {
			peers := c.RemoteAddrs.Value.Fixed()
			if !w.farEnd(c) {
				continue
			}
			why := "far end: " + g.Name + "/" + c.Name
			for _, a := range c.LocalAddrs.Value.Fixed() {
				h.addresses[a] = append(h.addresses[a], hint{settings.PeerAddress.Name, why})
			}
			for _, a := range peers {
				h.addresses[a] = append(h.addresses[a], hint{settings.OwnAddress.Name, why})
			}
			for _, k := range c.Children {
				for _, of := range []struct {
					list    ike.Selectors
					setting string
				}{{k.Remote.Value, settings.OwnNetworks.Name}, {k.Local.Value, settings.PeerNetworks.Name}} {
					for _, s := range of.list {
						if p, ok := s.Prefix(); ok {
							h.networks[p] = append(h.networks[p], hint{of.setting, why})
						}
					}
				}
				if !k.Rekey.IsDefault() {
					h.times[k.Rekey.Value] = append(h.times[k.Rekey.Value], hint{settings.ChildLifetime.Name, why})
				}
			}
			if !c.Rekey.IsDefault() {
				h.times[c.Rekey.Value] = append(h.times[c.Rekey.Value], hint{settings.IKELifetime.Name, why})
			}
			if id := c.Remote.ID.Value; id.Definite() {
				h.identities[strings.ToLower(id.Value)] = append(
					h.identities[strings.ToLower(id.Value)],
					hint{settings.OwnIdentity.Name, why},
				)
			}
			if id := c.Local.ID.Value; id.Definite() {
				h.identities[strings.ToLower(id.Value)] = append(
					h.identities[strings.ToLower(id.Value)],
					hint{settings.PeerIdentity.Name, why},
				)
			}
		}
		for _, k := range g.Keys {
			h.secrets = append(h.secrets, secretHint{k, "the key of " + g.Name})
		}
	}
	return h
}

// farEnd reports whether the device is the far end of a connection.
func (w *drafter) farEnd(c *model.Connection) bool {
	peers := c.RemoteAddrs.Value.Fixed()
	if len(peers) > 0 && w.own[peers[0]] {
		return true
	}
	if len(w.own) > 0 { // it knows its addresses
		return false
	}
	named := len(peers) > 0 && w.seen[peers[0]]
	for _, a := range c.LocalAddrs.Value.Fixed() {
		named = named || w.seen[a]
	}
	for _, k := range c.Children {
		for _, s := range append(slices.Clip(k.Local.Value), k.Remote.Value...) {
			if p, ok := s.Prefix(); ok && p.Bits() > 0 && w.nets[p] && named {
				return true
			}
		}
	}
	return false
}

// secret returns why a word is known to be a key.
func (h *hints) secret(word string) (why string, ok bool) {
	if len(word) < 6 {
		return "", false
	}
	for _, s := range h.secrets {
		if s.key.Secret.Reveal() == word {
			return s.why, true
		}
	}
	return "", false
}
