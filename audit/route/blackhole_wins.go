package route

import (
	"fmt"

	"toril/audit"
	"toril/walk"
)

// BlackholeWins reports where a blackhole route takes packets of a domain while the tunnel is up.
var BlackholeWins = &audit.Check{
	Name:     "route/blackhole-wins",
	Title:    "A blackhole route takes tunnel traffic while the tunnel is up",
	Severity: audit.High,
	Why: "The routing decision comes before the IPsec policy: what a blackhole, unreachable or prohibit route takes is never " +
		"encrypted.",
	Fix: "Give the blackhole route a worse metric than a real route for the same network, or let the IKE daemon install its own " +
		"routes.",
	Doc: audit.Doc{
		What: "The packets of every child are routed as the kernel does, with the routes that the daemon installs in a table of " +
			"its own where it does so.",
		Harm:    "The tunnel is up, the counters of its SA stay at zero, and every packet is lost inside the gateway.",
		Write:   "ip route add blackhole 10.2.0.0/16 metric 4278198272, besides a real route with a better metric.",
		Sources: []string{"ip-route(8)", "RFC 4301 section 5.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !whole(s) {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || !path.Known() {
			return
		}
		var parts []walk.Routed
		for _, flow := range path.Domain(pol) {
			parts = append(parts, path.Routes(flow.Now)...)
		}
		for _, part := range parts {
			r := part.Route
			if r == nil || r.Kind == "unicast" || r.Kind == "local" {
				continue
			}
			f := p.On(s, r.At, false)
			f.Rests(part.Doubts, path.TrafficDoubts(pol), s.Gateway.NetworkDoubts()) // a better route may be where nobody looked
			w, _ := part.Packets.Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("the %s route for %s takes packets of %s, also while it is up", r.Kind, r.To, s.Child.Name)
			f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
			p.Report(f)
		}
	},
}
