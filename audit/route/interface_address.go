package route

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// NoTunnelInterface reports where a route-based child has no interface, or its interface no address.
var NoTunnelInterface = &audit.Check{
	Name:     "route/interface-address",
	Title:    "The tunnel interface is missing or has no address",
	Severity: audit.High,
	Why: "Without the interface nothing can be routed into the tunnel; without an address on it the gateway's own packets, and " +
		"those of routing protocols, have no fitting source.",
	Fix: "Create the interface with the child's identifier and give it an address, if only of a transfer network.",
	Doc: audit.Doc{
		What:    "Children with an interface identifier, on gateways whose interfaces were given.",
		Harm:    "The tunnel comes up and carries nothing; or the gateway's own tests through it fail while everything else works.",
		Write:   "ip link add ipsec0 type xfrm dev eth0 if_id 42; ip addr add 10.255.0.1/30 dev ipsec0",
		Sources: []string{"ip-link(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !protects(s) || len(s.Gateway.Interfaces) == 0 || s.Child.IfIDOut.Value == ^uint32(0) {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil {
			return
		}
		into := path.Into(pol)
		f := p.On(s, s.Child.IfIDOut.Where(s.Child.MarkOut.Where(s.Child.At)), false)
		switch {
		case len(into) == 0 && s.Child.RouteBased():
			mark, mask, marked := s.Child.Marked()
			switch {
			case !marked:
				f.Message = fmt.Sprintf(
					"no interface has the identifier %d of %s: nothing can be routed into it",
					s.Child.IfIDOut.Value,
					s.Child.Name,
				)
			case mask == 0 || marks(s.Gateway, mark, mask):
				return // rules choose the packets, or the daemon makes the mark up
			default:
				f.Rests(s.Gateway.Lacks().Filter4, s.Gateway.FilterDoubts())
				f.Message = fmt.Sprintf("no VTI has the key %d, and no rule sets that mark: no packet enters %s", mark, s.Child.Name)
			}
		case len(into) > 0 && len(into[0].Addresses) == 0 && !into[0].Dynamic:
			f.Lower(2)
			f.Message = fmt.Sprintf("%s, the interface of %s, has no address", into[0].Name, s.Child.Name)
			f.Also = []audit.Evidence{{Pos: into[0].At, Note: "the interface"}}
		default:
			return
		}
		f.Rests(s.Gateway.NetworkDoubts(), s.Doubts())
		p.Report(f)
	},
}

// marks reports whether a rule of the packet filter sets a mark that fits.
func marks(g *model.Gateway, mark, mask uint32) bool {
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			if m := r.SetMark; m != nil && (m.Any || m.Mask != ^uint32(0) || m.Value&mask == mark) {
				return true
			}
		}
	}
	return false
}
