package audit

import (
	"net/netip"

	"toril/model"
	"toril/negotiate"
)

// Sizes computes what fits into the packets of the subject's child, as both ends would negotiate it; ok is false where that is not known.
func (p *Pass) Sizes(s *Subject) (z negotiate.Sizes, ok bool) {
	for _, a := range p.Attempts(s.Tunnel) {
		for _, c := range a.Children {
			if (c.Of == s.Child || c.With == s.Child) && c.Outcome == negotiate.Agrees && a.Doubts.Certain() {
				return negotiate.SizesOf(s.Tunnel, s.End, s.Child, c.Suite, p.leavesBy(s.Gateway, s.Tunnel.Peer(s.End)))
			}
		}
	}
	return z, false
}

// leavesBy is the interface that packets to an address leave by; nil where that is not known.
func (p *Pass) leavesBy(g *model.Gateway, to netip.Addr) *model.Interface {
	if !to.IsValid() {
		return nil
	}
	name := p.Walk(g).InterfaceFor(to)
	for _, i := range g.Interfaces {
		if i.Name == name {
			return i
		}
	}
	return nil
}
