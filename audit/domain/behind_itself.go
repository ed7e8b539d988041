package domain

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/audit"
	"toril/model/settings"
	"toril/packet"
)

// BehindItself reports where a remote selector is a network behind the gateway itself.
var BehindItself = &audit.Check{
	Name:     "domain/behind-itself",
	Setting:  settings.PeerNetworks.Row,
	Title:    "A remote network is behind this very gateway",
	Severity: audit.High,
	Why:      "The policy draws packets between two inside networks into the tunnel, or local and remote selectors are swapped.",
	Fix:      "Swap local and remote, or remove the network from the remote side.",
	Doc: audit.Doc{
		What: "Remote selectors that hold a network of one of the gateway's own interfaces, the one by which the peer is reached " +
			"left out, where they do not cover all addresses.",
		Harm:    "The tunnel comes up and nothing passes; or hosts of an inside network lose their neighbours the moment it does.",
		Write:   "local_ts is what is behind this gateway, remote_ts what is behind the other.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.RouteBased() || s.Child.Remote.Value.AnyAddress() || s.Child.Remote.Value.Dynamic() {
			return
		}
		remote := s.Child.Remote.Value.At(s.Tunnel.Peer(s.End))
		for _, i := range s.Gateway.Interfaces {
			if i.Kind == "loopback" || i.Kind == "xfrm" || i.Kind == "vti" || i.Kind == "gre" {
				continue
			}
			k := slices.IndexFunc(i.Addresses, func(a netip.Prefix) bool { return remote.Hold(a.Addr()) && a.Bits() < a.Addr().BitLen() })
			if k >= 0 && !bypassed(p.Walk(s.Gateway), packet.Prefixes(packet.Src, i.Addresses[k].Masked())) {
				f := p.On(s, s.Child.Remote.Where(s.Child.At), false)
				f.Message = fmt.Sprintf("the remote side holds %s, the network of %s", i.Addresses[k].Masked(), i.Name)
				f.Also = []audit.Evidence{{Pos: i.At, Note: "the interface"}}
				f.Rests(s.SelectorDoubts())
				p.Report(f)
				return
			}
		}
	},
}
