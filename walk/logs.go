package walk

import (
	"slices"
	"sync"

	"toril/model"
	"toril/packet"
)

// logging are the rules of a gateway that log, found by the packets that they are for.
type logging struct {
	sets  []packet.Set
	index *packet.Index
}

func loggingOf(g *model.Gateway) func() *logging {
	return sync.OnceValue(func() *logging {
		var l logging
		for _, c := range g.Chains {
			for _, r := range c.Rules {
				if r.Log {
					l.sets = append(l.sets, r.When)
				}
			}
		}
		l.index = packet.NewIndex(l.sets)
		return &l
	})
}

// Logs reports whether some rule of the gateway that logs is for some of these packets.
func (p *Path) Logs(s packet.Set) bool {
	l := p.logging()
	return slices.ContainsFunc(l.index.Meeting(s), func(i int) bool { return l.sets[i].Overlaps(s) })
}
