// Package nat holds the checks of address translation where it meets tunnels.
package nat

import (
	"slices"
	"sync"

	"toril/model"
	"toril/packet"
	"toril/walk"
)

// postrouting returns the nat chains of source translation.
func postrouting(g *model.Gateway) []*model.Chain {
	return slices.DeleteFunc(
		slices.Clone(g.Chains),
		func(c *model.Chain) bool { return c.Kind != model.NATChain || c.Hook != model.Postrouting },
	)
}

// exempts reports whether a rule lets packets pass a nat chain untouched.
func exempts(r *model.Rule) bool { return r.Verb == model.Accept || r.Verb == model.Return }

// ofTunnels are the packets of the tunnels themselves: whoever exempts them does not mean an encryption domain.
var ofTunnels = sync.OnceValue(func() packet.Set {
	return packet.Union(
		packet.Where(packet.Proto, packet.OneOf(50, 51)),
		packet.Where(packet.Proto, packet.OneOf(17)).And(packet.Where(packet.Dport, packet.OneOf(500, 4500))),
	)
})

// everything reports whether a rule is for all packets.
func everything(r *model.Rule) bool { return r.When.Contains(packet.Only(packet.IPv4)) }

// internal reports whether packets only go to networks that the gateway reaches by other than its default route.
func internal(path *walk.Path, s packet.Set) bool {
	if !path.Known() {
		return false
	}
	for _, part := range path.Routes(s.OnTheWire().With(packet.In, packet.Name("any"))) {
		if part.Route == nil || part.Route.To.Bits() == 0 {
			return false
		}
	}
	return true
}
