package domain

import (
	"fmt"
	"math"

	"toril/audit"
	"toril/model/settings"
	"toril/packet"
)

// Wider reports where the local side is wider than the networks behind the gateway.
var Wider = &audit.Check{
	Name:     "domain/wider-than-networks",
	Setting:  settings.OwnNetworks.Row,
	Title:    "The local side is wider than the networks behind the gateway",
	Severity: audit.Low,
	Why:      "The far end may send to networks that are not there, and any network added later is in the tunnel automatically.",
	Fix:      "Name the networks that are behind the gateway.",
	Doc: audit.Doc{
		What: "The local selectors of every child are compared with the networks that the gateway reaches by routes other than " +
			"its default one, where its routes or interfaces were given. The check reports where some but not all of the selectors " +
			"is behind the gateway.",
		Harm:    "10.0.0.0/8 \"to be safe\" on both ends of several tunnels makes every new network a conflict.",
		Write:   "local_ts = 10.1.0.0/24, 10.1.9.0/24 in place of 10.0.0.0/8.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.RouteBased() || s.Child.Local.Value.AnyAddress() || s.Child.Local.Value.Dynamic() {
			return
		}
		path := p.Walk(s.Gateway)
		if !path.Known() || s.PolicyOf(path) == nil {
			return
		}
		there := packet.None()
		to := s.Child.Local.Value.At(s.Tunnel.Own(s.End)).Packets().Free(packet.Proto, packet.Sport, packet.ICMP).Mirror()
		far := s.Child.RemoteAt(s.Tunnel.Peer(s.End)).Packets().Free(packet.Proto, packet.Sport, packet.Dport, packet.ICMP)
		if from := to.And(far); !from.Empty() { // whose rules of routing may be others than those of the gateway's own addresses
			to = from
		}
		parts := path.OwnRoutes(to.With(packet.In, packet.Name("any")))
		for _, part := range parts {
			if r := part.Route; r != nil && r.To.Bits() > 0 && (r.Kind == "unicast" || r.Kind == "local") {
				there = there.Or(part.Packets)
			}
		}
		there = there.Free(packet.In)
		there = there.Or(path.AtFarEnds(to, s.PolicyOf(path))) // a hub's spokes are reached through it too
		missing := to.Minus(there)
		if there.Empty() || missing.Empty() || onlyEdges(missing, to) {
			return
		}
		f := p.On(s, s.Child.Local.Where(s.Child.At), false)
		f.Message = fmt.Sprintf(
			"%s names %s, of which %s is not behind the gateway",
			s.Child.Name,
			s.Child.Local.Value,
			audit.Networks(missing, packet.Dst),
		)
		for _, part := range parts {
			if part.Packets.Free(packet.In).Overlaps(missing) {
				f.Rests(part.Doubts)
			}
		}
		p.Report(f)
	},
}

// onlyEdges reports whether less than a sixteenth is missing.
func onlyEdges(missing, all packet.Set) bool {
	size := func(s packet.Set) float64 {
		n := 0.0
		for _, p := range s.Prefixes(packet.Dst) {
			n += math.Ldexp(1, p.Addr().BitLen()-p.Bits())
		}
		return n
	}
	return size(missing)*16 < size(all)
}
