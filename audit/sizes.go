package audit

import (
	"net/netip"

	"toril/ike"
	"toril/model"
	"toril/negotiate"
)

// Ethernet is the MTU of Ethernet in bytes (RFC 894), which is assumed of an interface that does not tell.
const Ethernet = 1500

// Sizes are what fits into the packets of a child, in bytes.
type Sizes struct {
	Link     int // MTU of the interface that its ESP packets leave by
	InnerMTU int
	MSS      int // of TCP over IPv4
	Suite    ike.Suite
}

// Sizes computes what fits into the packets of the subject's child, as both ends would negotiate it; ok is false where that is not known.
func (p *Pass) Sizes(s *Subject) (z Sizes, ok bool) {
	for _, a := range p.Attempts(s.Tunnel) {
		for _, c := range a.Children {
			if (c.Of == s.Child || c.With == s.Child) && c.Outcome == negotiate.Agrees && a.Unsure == "" {
				z.Suite, ok = c.Suite, true
			}
		}
	}
	if !ok {
		return z, false
	}
	own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
	z.Link = Ethernet
	if i := p.leavesBy(s.Gateway, peer); i != nil && i.MTU.Value > 0 {
		z.Link = i.MTU.Value
	}
	w := ike.Wrap{
		Protocol:     s.Child.Protocol.Value,
		Mode:         s.Child.Mode.Value,
		Encapsulated: s.Connection.Encap.Value,
		Outer6:       own.Is6() || peer.Is6(),
		Cut96:        s.Child.Cut96.Value,
	}
	z.InnerMTU = z.Suite.InnerMTU(w, z.Link)
	z.MSS = w.MSS(z.InnerMTU)
	return z, z.InnerMTU > 0
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
