package walk

import (
	"net/netip"
	"slices"

	"toril/model"
	"toril/packet"
)

// SelfAddresses returns, for a gateway, the function that NewFilter wants: the addresses of the interfaces that out
// names, as far as the saved files say; where they say nothing about interfaces, the addresses that the connections
// send from.
func SelfAddresses(g *model.Gateway) func(out packet.Values, fam packet.Family) packet.Values {
	return func(out packet.Values, fam packet.Family) packet.Values {
		var found []netip.Addr
		for _, i := range g.Interfaces {
			if !out.HasName(i.Name) || i.Kind == "loopback" {
				continue
			}
			for _, a := range i.Addresses {
				found = append(found, a.Addr())
			}
		}
		if len(g.Interfaces) == 0 {
			for _, c := range g.Connections {
				found = append(found, c.LocalAddrs.Value.Fixed()...)
			}
		}
		vs := []packet.Values{}
		for _, a := range slices.Compact(found) {
			if a.Is4() == (fam == packet.IPv4) && !a.IsLinkLocalUnicast() {
				vs = append(vs, packet.Addresses(a, a))
			}
		}
		return packet.Join(vs...)
	}
}

// OutsideOf is the interface from which a policy's own packets leave; "" where the saved files do not tell.
func (p *Path) OutsideOf(pol *Policy) string { return p.outside(pol.Own, pol.Peer) }

// between are the packets from one address to another; from any where the first is not known.
func between(from, to netip.Addr) packet.Set {
	s := packet.Range(packet.Dst, to, to)
	if from.IsValid() && from.BitLen() == to.BitLen() {
		s = s.And(packet.Range(packet.Src, from, from))
	}
	return s
}

// unnamed stands for an interface whose name is not known: rules that name an interface do not concern it.
const unnamed = "(unknown)"

// Outside returns the interfaces that a peer's packets come and go by, as well as the saved files tell: the one that has
// the own address; failing that, the one that the route to the peer names; failing that, what the filter gives away, by
// where IKE from the peer is let in, or where packets leave masqueraded. told is false where nothing tells; it is then an
// interface that no rule names.
func (p *Path) Outside(own, peer netip.Addr) (v packet.Values, told bool) {
	if name := p.outside(own, peer); name != "" {
		return packet.Name(name), true
	}
	g := p.Gateway
	if peer.IsValid() {
		ike := packet.Range(packet.Src, peer, peer).With(packet.Proto, packet.OneOf(17)).With(packet.Dport, packet.OneOf(500, 4500))
		tcp := packet.Where(packet.Proto, packet.OneOf(6))
		for _, c := range g.Chains {
			for _, r := range c.Rules {
				if c.Hook == model.Input && r.Verb == model.Accept && !r.When.Overlaps(tcp) { // a rule for IKE, not one for everything
					if v, ok := only(r.When.And(ike), packet.In); ok {
						return v, true
					}
				}
			}
		}
	}
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			if r.Verb == model.Masquerade {
				if v, ok := only(r.When, packet.Out); ok {
					return v, true
				}
			}
		}
	}
	return packet.Name(unnamed), false
}

// fromOutside has packets come in from the peer of a tunnel.
func (p *Path) fromOutside(f Flow, own, peer netip.Addr) Flow {
	outside, told := p.Outside(own, peer)
	if f.Now = f.Now.With(packet.In, outside); !told {
		return f.unknown(packet.In, p.untold)
	}
	return f.Unsure(packet.In, p.outsideDoubts(own, peer))
}

// outsideDoubts are why a peer's packets may come in by another interface than Outside names.
func (p *Path) outsideDoubts(own, peer netip.Addr) model.Doubts {
	out := p.Gateway.Doubts(model.AboutInterfaces)
	if name, ok := p.owners[own]; ok {
		return out.And(p.devices[name].Doubts)
	}
	if peer.IsValid() {
		for _, h := range p.own.Decide(Start(between(own, peer))) {
			if h.kind == "unicast" && h.dev != "" {
				out.Add(h.Doubts...)
			}
		}
	}
	return out
}

// FromOutside has packets come in from the peer of a tunnel, in the clear.
func (p *Path) FromOutside(s packet.Set, own, peer netip.Addr) Flow {
	return p.ComingIn(s.With(packet.PeerIn, packet.OneOf(0)), own, peer)
}

// ComingIn has packets come in by the interface that a peer's packets come by.
func (p *Path) ComingIn(s packet.Set, own, peer netip.Addr) Flow {
	return p.fromOutside(Start(s), own, peer)
}

// only returns the interfaces that a set is restricted to; ok is false where it is not, or is empty.
func only(s packet.Set, f packet.Field) (packet.Values, bool) {
	v := s.Values(f, packet.IPv4).Or(s.Values(f, packet.IPv6))
	return v, !v.Empty() && !v.HasName(unnamed)
}

// outside is the interface that has an own address, or else the one that the route to the peer names; "" where neither
// tells.
func (p *Path) outside(own, peer netip.Addr) string {
	if name, ok := p.owners[own]; ok {
		return name
	}
	if peer.IsValid() {
		for _, h := range p.own.Decide(Start(between(own, peer))) {
			if h.kind == "unicast" && h.dev != "" {
				return h.dev
			}
		}
	}
	return ""
}
