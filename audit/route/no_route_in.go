package route

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
)

// NoRouteIn reports where the packets of a route-based tunnel are not routed into it.
var NoRouteIn = &audit.Check{
	Name:     "route/no-route-in",
	Title:    "The remote network is not routed into the tunnel",
	Severity: audit.High,
	Why:      "A route-based tunnel carries only what a route sends to its interface.",
	Fix:      "Add a route for the remote networks via the tunnel interface, and remove more specific routes elsewhere.",
	Doc: audit.Doc{
		What: "A child with an interface identifier, and its remote networks as the routing tables have them: the check reports " +
			"where no route leads to the interface of that identifier, or where a more specific one leads elsewhere. " +
			"Networks that a routing protocol on that interface may learn are not reported.",
		Harm:    "The tunnel is up, and the traffic takes the default route, in the clear.",
		Write:   "ip route add 10.2.0.0/16 dev ipsec0",
		Sources: []string{"ip-route(8)", "ip-xfrm(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !protects(s) || len(s.Gateway.Routes) == 0 {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || len(path.Into(pol)) == 0 {
			return
		}
		own := path.Into(pol)[0]
		if learns(s.Gateway, own.Name) {
			return
		}
		f := p.On(s, s.Child.Remote.Where(s.Child.At), false)
		f.Also = []audit.Evidence{{Pos: own.At, Note: "the interface"}}
		if s.Gateway.Told.Routes != model.Wholly {
			f.Rests(s.Gateway.NetworkDoubts())
		}
		f.Rests(s.Gateway.UnreadNetwork(), s.Doubts())
		remote := s.Child.Remote.Value
		if len(pol.Wraps) > 0 || remote.AnyAddress() { // the selectors name no network: any route will do
			if !leads(s.Gateway, own.Name, "") {
				f.Message = fmt.Sprintf("no route leads to %s, the interface of %s", own.Name, s.Child.Name)
				p.Report(f)
			}
			return
		}
		into, elsewhere := packet.None(), (*model.Route)(nil)
		for _, part := range path.Routes(pol.Domain.Free(packet.Mark, packet.ConnMark).And(packet.Where(packet.In, packet.Name("any")))) {
			r, set := part.Route, part.Packets
			switch {
			case r != nil && r.Dev == own.Name:
				into = into.Or(set)
			case r != nil && r.To.Bits() > 0 && r.Origin != "connected" && (elsewhere == nil || r.At.Compare(elsewhere.At) < 0):
				elsewhere = r
			}
		}
		switch {
		case into.Empty():
			f.Message = fmt.Sprintf("no route leads to %s, the interface of %s", own.Name, s.Child.Name)
		case elsewhere != nil:
			f.Message = fmt.Sprintf("a more specific route, for %s, bypasses %s", elsewhere.To, own.Name)
			f.Also = []audit.Evidence{{Pos: elsewhere.At, Note: "the route"}}
		default:
			return
		}
		p.Report(f)
	},
}

// leads reports whether a route other than that of its own network leads to an interface; nor one that some protocol told, "" for none.
func leads(g *model.Gateway, dev, but string) bool {
	return slices.ContainsFunc(
		g.Routes,
		func(r *model.Route) bool {
			return r.Dev == dev && r.Kind == "unicast" && r.Origin != "connected" && (but == "" || r.Origin != but)
		},
	)
}

// learns reports whether a routing protocol is told to run on an interface.
func learns(g *model.Gateway, dev string) bool {
	var addresses []netip.Prefix
	for _, i := range g.Interfaces {
		if i.Name == dev {
			addresses = i.Addresses
		}
	}
	for _, proto := range g.Protocols {
		for _, c := range proto.Interfaces {
			if c.Name == dev {
				return true
			}
		}
		for _, a := range addresses {
			for _, c := range proto.Networks {
				if c.Network.IsValid() && c.Network.Contains(a.Addr()) {
					return true
				}
			}
			for _, n := range proto.Neighbors {
				if n.Addr.IsValid() && a.Masked().Contains(n.Addr) {
					return true
				}
			}
		}
	}
	return false
}
