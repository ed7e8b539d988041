package walk

import (
	"fmt"
	"net/netip"

	"toril/model"
	"toril/packet"
)

// Wrap is what an interface wrapped packets in: GRE, or IP in IP.
type Wrap struct {
	By    *model.Interface
	Outer Flow // the outer packets, as they left or ended
}

// maxWraps bounds how often packets are wrapped into each other: a route to the far end by the interface itself.
const maxWraps = 3

// wrapped follows what an interface makes of packets: packets of the gateway's own, to the interface's far end. What becomes
// of those becomes of the packets.
func (p *Path) wrapped(f Flow, by *model.Interface, h hop) []Outcome {
	outer, ok := p.wrapOf(by)
	if !ok {
		return []Outcome{
			{Flow: f.doubt(p.filter.doubt(nil, "the far end of "+by.Name+" is not known")), Fate: Unknown, Where: "wrap", Out: h.dev},
		}
	}
	if f.wraps++; f.wraps > maxWraps {
		return []Outcome{
			{
				Flow:  f.met(Step{Stage: "route", What: "the far end of " + by.Name + " is routed into " + by.Name + " itself"}),
				Fate:  Dropped,
				Where: "route",
			},
		}
	}
	w, _ := outer.Witness()
	f = f.met(
		Step{Stage: "wrap", What: fmt.Sprintf("by %s, as %s from %s to %s", by.Name, packet.ProtoName(uint64(w.Proto)), w.Src, w.Dst)},
	)
	start := ownPackets(outer)
	start.wraps = f.wraps
	var out []Outcome
	for _, o := range p.local(start, false, nil) {
		inner := o // its fate, with the packets that are inside
		inner.Flow = f.doubt(o.Doubts...)
		for _, s := range o.Steps {
			s.Wrapped = true
			inner.Flow = inner.met(s)
		}
		if o.Fate == Delivered {
			inner.Fate, inner.Where = Dropped, "route"
		}
		inner.Wrap = &Wrap{by, o.Flow}
		out = append(out, inner)
	}
	return out
}

// WrapOf are the outer packets of an interface that wraps what is routed to it; ok is false where it does not, or its far end
// is not known.
func (p *Path) WrapOf(i *model.Interface) (outer packet.Set, ok bool) { return p.wrapOf(i) }

// wrapOf are the outer packets of an interface that wraps; ok is false where its far end is not known.
func (p *Path) wrapOf(i *model.Interface) (packet.Set, bool) {
	proto, wraps := i.Wraps()
	if !wraps || !i.Remote.IsValid() || i.Remote.IsUnspecified() {
		return packet.None(), false
	}
	from := i.Local
	if !from.IsValid() || from.IsUnspecified() {
		from = p.sourceTo(i.Remote)
	}
	if !from.IsValid() || from.BitLen() != i.Remote.BitLen() {
		return packet.None(), false
	}
	return packet.Range(packet.Src, from, from).
			And(packet.Range(packet.Dst, i.Remote, i.Remote)).
			With(packet.Proto, packet.OneOf(proto)),
		true
}

// sourceTo is the address that the gateway's own packets to another get; invalid where the saved files do not tell.
func (p *Path) sourceTo(a netip.Addr) netip.Addr {
	i := p.devices[p.InterfaceFor(a)]
	if i == nil {
		return netip.Addr{}
	}
	for _, n := range i.Addresses {
		if n.Addr().BitLen() == a.BitLen() && !n.Addr().IsLinkLocalUnicast() {
			return n.Addr()
		}
	}
	return netip.Addr{}
}

// Unwrapped is the interface that takes outer packets that were delivered to the gateway out of their wrapping; nil for
// none.
func (p *Path) Unwrapped(outer packet.Packet) *model.Interface {
	for _, i := range p.Gateway.Interfaces {
		proto, wraps := i.Wraps()
		fits := func(end, a netip.Addr) bool { return !end.IsValid() || end.IsUnspecified() || end == a }
		if wraps && proto == uint64(outer.Proto) && fits(i.Local, outer.Dst) && fits(i.Remote, outer.Src) {
			return i
		}
	}
	return nil
}
