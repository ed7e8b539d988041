package route

import (
	"fmt"

	"toril/audit"
)

// NoTunnelInterface speaks where a route-based child has no interface, or its interface no address.
var NoTunnelInterface = &audit.Check{
	Name:     "route/interface-address",
	Title:    "The tunnel interface is missing or has no address",
	Severity: audit.Low,
	Why:      "Without the interface nothing can be routed into the tunnel; without an address on it the gateway's own packets, and those of routing protocols, have no fitting source.",
	Mend:     "Create the interface with the child's identifier and give it an address, if only of a transfer network.",
	Doc: audit.Doc{
		What:    "Children with an interface identifier, on gateways whose interfaces were given.",
		Harm:    "The tunnel comes up and carries nothing; or the gateway's own tests through it fail while everything else works.",
		Write:   "ip link add ipsec0 type xfrm dev eth0 if_id 42; ip addr add 10.255.0.1/30 dev ipsec0",
		Sources: []string{"ip-link(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !whole(s) || !s.Child.RouteBased() || len(s.Gateway.Interfaces) == 0 || s.Child.IfIDOut.Value == ^uint32(0) {
			return
		}
		i := tunnelInterface(s)
		f := p.On(s, s.Child.IfIDOut.Where(s.Child.At), false)
		switch {
		case i == nil:
			f.Severity = audit.High
			f.Message = fmt.Sprintf("no interface of the gateway has the identifier %d", s.Child.IfIDOut.Value)
		case len(i.Addresses) == 0 && !i.Dynamic:
			f.Severity = audit.Low
			f.Message = fmt.Sprintf("%s, the interface of %s, has no address", i.Name, s.Child.Name)
			f.Also = []audit.Evidence{{Pos: i.At, Note: "the interface"}}
		default:
			return
		}
		p.Report(f)
	},
}
