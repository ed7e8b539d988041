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

// mappings are those of the gateway onto networks that no route of its own leads to.
func (p *Path) mappings() []mapping {
	var out []mapping
	for _, c := range p.Gateway.Chains {
		for _, r := range c.Rules {
			to := r.Writes()
			if r.Verb != model.SourceNAT || !to.Onto.IsValid() {
				continue
			}
			moves := bareAddresses(r.When)
			if to.From.IsValid() {
				moves = moves.And(packet.Prefixes(packet.Src, to.From))
			}
			if onto := packet.Prefixes(packet.Src, to.Onto); !p.behind(onto) {
				out = append(out, mapping{r, onto, moves})
			}
		}
	}
	return out
}

// bareAddresses frees all but the addresses of packets.
func bareAddresses(s packet.Set) packet.Set {
	return s.OnTheWire().Free(packet.Proto, packet.Sport, packet.Dport, packet.ICMP)
}

// moved are packets as they are before a rule moves them.
type moved struct {
	packets packet.Set
	rule    *model.Rule
}

// beforeMappings splits the packets that a tunnel is for, with the sources that they have in it: into those that have these sources from
// the beginning, and those that a rule moves, as they are before.
func (p *Path) beforeMappings(s packet.Set) (rest packet.Set, before []moved) {
	rest = s
	for _, m := range p.mapped {
		part := rest.And(m.onto)
		if part.Empty() {
			continue
		}
		was := part.Free(packet.Src).And(m.moves)
		if was.Empty() || was.Equal(was.Free(packet.Src)) { // whoever sends: nothing is told
			continue
		}
		rest, before = rest.Minus(m.onto), append(before, moved{was, m.rule})
	}
	return rest, before
}

// behind reports whether a route of the gateway's own leads to some of the sources of packets.
func (p *Path) behind(s packet.Set) bool {
	return slices.ContainsFunc(p.OwnRoutes(bareAddresses(s).Free(packet.Dst).Mirror()), func(r Routed) bool {
		return r.Route != nil && r.Route.To.Bits() > 0 && (r.Route.Kind == "unicast" || r.Route.Kind == "local")
	})
}
