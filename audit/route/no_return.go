package route

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/source"
	"toril/walk"
)

// NoReturn reports where what comes out of a tunnel has no route to its destination.
var NoReturn = &audit.Check{
	Name:     "route/no-return",
	Title:    "The local network of a tunnel has no route",
	Severity: audit.Medium,
	Why:      "Traffic from the tunnel to it is lost, or goes back out via the default route.",
	Fix:      "Add a route for the network behind the gateway, or take it out of the selectors.",
	PartOf: []audit.Part{
		{Of: "domain/any-to-any", By: audit.SameEnd},
		{Of: "ends/not-mirrored", By: audit.SameExcess},
	},
	Doc: audit.Doc{
		What: "The packets of every child in the other direction are routed. The check reports where some local network has no " +
			"route but the default one, or none at all, or one that the IKE daemon installed for another child, on gateways whose " +
			"routes or interfaces were given.",
		Harm: "Hosts of that network are reachable on paper only; the requests that come through the tunnel leave on the wrong " +
			"side, in the clear.",
		Write:   "ip route add 10.1.9.0/24 via 10.1.0.9",
		Sources: []string{"ip-route(8)"},
	},
	Requires: audit.Walks,
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
		var doubts model.Doubts
		var by *model.Child // whose route takes them
		var line source.Pos
		for _, part := range path.Routes(path.Traffic(pol).Mirror().With(packet.In, packet.Name("any"))) {
			r, set := part.Route, part.Packets
			doubts.Add(part.Doubts...)
			if k := path.InstalledFor(r); k != nil {
				if by == nil || r.At.Compare(line) < 0 {
					by, line = k, r.At
				}
				taken = taken.Or(set)
				continue
			}
			if r == nil || r.To.Bits() == 0 && r.Kind == "unicast" || r.Kind == "blackhole" || r.Kind == "unreachable" ||
				r.Kind == "prohibit" {
				lost = lost.Or(set)
			}
		}
		taken, lost = taken.Minus(path.AtFarEnds(taken, pol)), lost.Minus(path.AtFarEnds(lost, pol)) // a hub's way between its spokes
		if !taken.Empty() {
			f := p.On(s, line, false)
			f.Rests(doubts)
			w, _ := taken.Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf(
				"the route that the IKE daemon installs for %s also takes what comes out of %s: it goes back out, and not to %s",
				by.Name,
				s.Child.Name,
				s.Child.Local.Value,
			)
			f.Fix = audit.Sentence(
				p.PassChild(s),
				"name narrower remote networks",
				"set charon.install_routes = no and configure the routes yourself",
			)
			p.Report(f)
		}
		// what the gateway sends on to others
		for _, o := range path.ForwardAll([]walk.Flow{walk.Start(path.Emerging(pol, lost.Free(packet.In)))}) {
			doubts.Add(o.Doubts...)
			if o.Rewritten(packet.Dst) {
				lost = lost.Minus(o.Was().OnTheWire())
			}
		}
		if lost.Empty() || s.Summarises(path) {
			return
		}
		f := p.On(s, s.Child.Local.Where(s.Child.At), s.Child.Local.IsDefault())
		f.Rests(doubts)
		w, _ := lost.Witness()
		f.Example = w.String()
		f.Message = fmt.Sprintf(
			"the gateway has no route of its own to %s, which %s protects",
			audit.Networks(lost, packet.Dst),
			s.Child.Name,
		)
		f.Concerns(lost)
		p.Report(f)
	},
}
