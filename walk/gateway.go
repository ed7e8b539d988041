package walk

import (
	"net/netip"
	"slices"

	"toril/model"
	"toril/packet"
)

// SelfAddresses returns, for a gateway, the function that NewFilter wants: the addresses of the interfaces that out
// names, as far as the saved files say; where they say nothing about interfaces, the addresses that the connections
// speak from.
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
		for _, h := range p.own.Decide(Start(packet.Range(packet.Dst, peer, peer))) {
			if h.kind == "unicast" && h.dev != "" {
				return h.dev
			}
		}
	}
	return ""
}
