package draft

import (
	"net/netip"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
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

// hintsOf looks for connections of known gateways whose peer is at an address that the samples name: this device is their far end.
func hintsOf(known []*model.Gateway, own map[netip.Addr]bool) *hints {
	h := &hints{addresses: map[netip.Addr][]hint{}, networks: map[netip.Prefix][]hint{}, identities: map[string][]hint{},
		times: map[time.Duration][]hint{}}
	for _, g := range known {
		for _, c := range g.Connections {
			peers := c.RemoteAddrs.Value.Fixed()
			if len(peers) == 0 || !own[peers[0]] {
				continue
			}
			why := "far end: " + g.Name + "/" + c.Name
			for _, a := range c.LocalAddrs.Value.Fixed() {
				h.addresses[a] = append(h.addresses[a], hint{"peer-address", why})
			}
			h.addresses[peers[0]] = append(h.addresses[peers[0]], hint{"own-address", why})
			for _, k := range c.Children {
				for _, of := range []struct {
					list    ike.Selectors
					setting string
				}{{k.Remote.Value, "own-networks"}, {k.Local.Value, "peer-networks"}} {
					for _, s := range of.list {
						if p, ok := prefixOf(s); ok {
							h.networks[p] = append(h.networks[p], hint{of.setting, why})
						}
					}
				}
				if !k.Rekey.IsDefault() {
					h.times[k.Rekey.Value] = append(h.times[k.Rekey.Value], hint{"child-lifetime", why})
				}
			}
			if !c.Rekey.IsDefault() {
				h.times[c.Rekey.Value] = append(h.times[c.Rekey.Value], hint{"ike-lifetime", why})
			}
			if id := c.Remote.ID.Value; id.Definite() {
				h.identities[strings.ToLower(id.Value)] = append(h.identities[strings.ToLower(id.Value)], hint{"own-identity", why})
			}
			if id := c.Local.ID.Value; id.Definite() {
				h.identities[strings.ToLower(id.Value)] = append(h.identities[strings.ToLower(id.Value)], hint{"peer-identity", why})
			}
		}
		for _, k := range g.Keys {
			h.secrets = append(h.secrets, secretHint{k, "the key of " + g.Name})
		}
	}
	return h
}

// prefixOf returns the network that a selector is.
func prefixOf(s ike.Selector) (netip.Prefix, bool) {
	for bits := 0; s.Lo.IsValid() && bits <= s.Lo.BitLen(); bits++ {
		p := netip.PrefixFrom(s.Lo, bits)
		if p.Masked().Addr() == s.Lo && ike.SelectPrefix(p).Hi == s.Hi {
			return p, true
		}
	}
	return netip.Prefix{}, false
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
