package walk

import (
	"slices"

	"toril/model"
	"toril/packet"
)

// mapping is a rule that moves a network onto one of a tunnel's local networks: where two sites have the same networks, each goes by others
// in the tunnel.
type mapping struct {
	rule  *model.Rule
	onto  packet.Set // packets with a source that it gives
	moves packet.Set // packets that it moves, whatever the rest of them
}

// mappingsOf are those of a gateway.
func mappingsOf(g *model.Gateway) []mapping {
	var out []mapping
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			to := r.Writes()
			if r.Verb != model.SourceNAT || !to.Onto.IsValid() {
				continue
			}
			moves := bareAddresses(r.When)
			if to.From.IsValid() {
				moves = moves.And(packet.Prefixes(packet.Src, to.From))
			}
			out = append(out, mapping{r, packet.Prefixes(packet.Src, to.Onto), moves})
		}
	}
	return out
}

// bareAddresses frees all but the addresses of packets.
func bareAddresses(s packet.Set) packet.Set {
	return s.OnTheWire().Free(packet.Proto, packet.Sport, packet.Dport, packet.ICMP)
}

// behindMappings are the packets that a tunnel is for, of a set with the sources that they have in it, as they are before the gateway moves
// them; by is the rules that do. Sources that are themselves behind the gateway stay what they are.
func (p *Path) behindMappings(s packet.Set) (rest, moved packet.Set, by []*model.Rule) {
	rest, moved = s, packet.None()
	for _, m := range p.mapped {
		part := rest.And(m.onto)
		if part.Empty() || p.behind(m.onto) {
			continue
		}
		before := part.Free(packet.Src).And(m.moves)
		if before.Empty() || before.Equal(before.Free(packet.Src)) { // whoever sends: nothing is told
			continue
		}
		rest, moved, by = rest.Minus(m.onto), moved.Or(before), append(by, m.rule)
	}
	return rest, moved, by
}

// behind reports whether a route of the gateway's own leads to some of the sources of packets.
func (p *Path) behind(s packet.Set) bool {
	return slices.ContainsFunc(p.OwnRoutes(bareAddresses(s).Free(packet.Dst).Mirror()), func(r Routed) bool {
		return r.Route != nil && r.Route.To.Bits() > 0 && (r.Route.Kind == "unicast" || r.Route.Kind == "local")
	})
}
