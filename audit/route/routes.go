package route

import (
	"fmt"
	"net/netip"

	"toril/audit"
	"toril/gateway"
	"toril/packet"
	"toril/source"
)

// BlackholeWins speaks where a blackhole route takes packets of a domain while the tunnel is up.
var BlackholeWins = &audit.Check{
	Name:     "route/blackhole-wins",
	Title:    "A blackhole route takes tunnel traffic while the tunnel is up",
	Severity: audit.High,
	Why:      "The routing decision comes before the IPsec policy: what a blackhole, unreachable or prohibit route takes is never encrypted.",
	Mend:     "Give the blackhole route a worse metric than a real route for the same network, or let the IKE daemon install its own routes.",
	Doc: audit.Doc{
		What:    "The packets of every child are routed as the kernel does, with the routes that the daemon installs in a table of its own where it does so.",
		Harm:    "The tunnel is up, the counters of its SA stay at zero, and every packet is lost inside of the gateway.",
		Write:   "ip route add blackhole 10.2.0.0/16 metric 4278198272, besides a real route with a better metric.",
		Sources: []string{"ip-route(8)", "RFC 4301 section 5.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !whole(s) {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || !path.Known() {
			return
		}
		for _, part := range path.Routes(path.Domain(pol).Now) {
			r := part.Route
			if r == nil || r.Kind == "unicast" || r.Kind == "local" {
				continue
			}
			f := p.On(s, r.At, false)
			f.Severity = audit.High
			w, _ := part.Packets.Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("the %s route for %s takes packets of %s, also while it is up", r.Kind, r.To, s.Child.Name)
			f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
			p.Report(f)
		}
	},
}

// NoRouteIn speaks where the packets of a route-based tunnel are not routed into it.
var NoRouteIn = &audit.Check{
	Name:     "route/no-route-in",
	Title:    "The remote network is not routed into the tunnel",
	Severity: audit.High,
	Why:      "A route-based tunnel carries only what a route sends to its interface.",
	Mend:     "Add a route for the remote networks by the tunnel's interface, and take out what is more specific elsewhere.",
	Doc: audit.Doc{
		What: "A child with an interface identifier, and its remote networks as the routing tables have them: the check speaks where no route leads to the interface of that identifier, or where a more specific one leads elsewhere. " +
			"Networks that a routing protocol on that interface may learn are not spoken of.",
		Harm:    "The tunnel is up, and the traffic takes the default route, in clear.",
		Write:   "ip route add 10.2.0.0/16 dev ipsec0",
		Sources: []string{"ip-route(8)", "ip-xfrm(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !whole(s) || !s.Child.RouteBased() || len(s.Gateway.Routes) == 0 {
			return
		}
		own := tunnelInterface(s)
		if own == nil {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || learns(s.Gateway, own.Name) {
			return
		}
		all := s.Child.Remote.Value.AnyAddress()
		into, elsewhere := packet.None(), (*gateway.Route)(nil)
		for _, part := range path.Routes(pol.Domain.And(packet.Where(packet.In, packet.Name("any")))) {
			r, set := part.Route, part.Packets
			switch {
			case r != nil && r.Dev == own.Name:
				into = into.Or(set)
			case r != nil && r.To.Bits() > 0 && r.Origin != "connected" && (elsewhere == nil || r.At.Compare(elsewhere.At) < 0):
				elsewhere = r
			}
		}
		f := p.On(s, s.Child.Remote.Where(s.Child.At), false)
		f.Severity = audit.High
		switch {
		case into.Empty():
			f.Message = fmt.Sprintf("no route leads to %s, the interface of %s", own.Name, s.Child.Name)
			f.Also = []audit.Evidence{{Pos: own.At, Note: "the interface"}}
		case elsewhere != nil && !all:
			f.Message = fmt.Sprintf("a more specific route, for %s, leads past %s", elsewhere.To, own.Name)
			f.Also = []audit.Evidence{{Pos: elsewhere.At, Note: "the route"}}
		default:
			return
		}
		p.Report(f)
	},
}

// tunnelInterface is the interface of a route-based child; nil where the files do not tell.
func tunnelInterface(s *audit.Subject) *gateway.Interface {
	for _, i := range s.Gateway.Interfaces {
		if i.Kind == "xfrm" && i.IfID == s.Child.IfIDOut.Value {
			return i
		}
	}
	return nil
}

// learns reports whether a routing protocol is told to run on an interface.
func learns(g *gateway.Gateway, dev string) bool {
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

// NoReturn speaks where what comes out of a tunnel has no route to its destination.
var NoReturn = &audit.Check{
	Name:     "route/no-return",
	Title:    "The local network of a tunnel has no route",
	Severity: audit.Medium,
	Why:      "What comes out of the tunnel for it is lost, or goes back out by the default route.",
	Mend:     "Add a route for the network behind the gateway, or take it out of the selectors.",
	Doc: audit.Doc{
		What:    "The packets of every child in the other direction are routed. The check speaks where some local network has no route but the default one, or none at all, or one that the IKE daemon installed for another child, on gateways whose routes or interfaces were given.",
		Harm:    "Hosts of that network are reachable on paper only; the requests that come through the tunnel leave by the wrong side, in clear.",
		Write:   "ip route add 10.1.9.0/24 via 10.1.0.9",
		Sources: []string{"ip-route(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !whole(s) || s.Child.Local.Value.AnyAddress() || s.Child.RouteBased() {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || len(s.Gateway.Routes) == 0 {
			return
		}
		lost, taken := packet.None(), packet.None()
		var by *gateway.Child // whose route takes them
		var line source.Pos
		for _, part := range path.Routes(pol.Back().With(packet.In, packet.Name("any"))) {
			r, set := part.Route, part.Packets
			if k := path.InstalledFor(r); k != nil {
				if by == nil || r.At.Compare(line) < 0 {
					by, line = k, r.At
				}
				taken = taken.Or(set)
				continue
			}
			if r == nil || r.To.Bits() == 0 && r.Kind == "unicast" || r.Kind == "blackhole" || r.Kind == "unreachable" || r.Kind == "prohibit" {
				lost = lost.Or(set)
			}
		}
		if !taken.Empty() {
			f := p.On(s, line, false)
			f.Severity = audit.Medium
			w, _ := taken.Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("the route that the IKE daemon installs for %s also takes what comes out of %s: it goes back out, and not to %s", by.Name, s.Child.Name, s.Child.Local.Value)
			f.Mend = "Add a child of mode pass for the networks behind the gateway, name narrower remote networks, or set charon.install_routes = no and write the routes yourself."
			p.Report(f)
		}
		if lost.Empty() {
			return
		}
		f := p.On(s, s.Child.Local.Where(s.Child.At), false)
		f.Severity = audit.Medium
		w, _ := lost.Witness()
		f.Example = w.String()
		f.Message = fmt.Sprintf("the gateway has no route of its own to %s, which %s protects", audit.Networks(lost, packet.Dst), s.Child.Name)
		p.Report(f)
	},
}
