package walk

import (
	"toril/ike"
	"toril/model"
	"toril/packet"
)

// esp are a policy's ESP packets, or those that carry them in UDP.
func (pol *Policy) esp(out bool) (packet.Set, bool) {
	if !pol.Own.IsValid() || !pol.Peer.IsValid() || pol.Own.BitLen() != pol.Peer.BitLen() {
		return packet.None(), false
	}
	from, to := pol.Own, pol.Peer
	if !out {
		from, to = to, from
	}
	s := packet.Range(packet.Src, from, from).And(packet.Range(packet.Dst, to, to))
	if pol.inUDP {
		return s.With(packet.Proto, packet.OneOf(17)).With(packet.Sport, packet.OneOf(4500)).With(packet.Dport, packet.OneOf(4500)), true
	}
	if pol.Child.Protocol.Value == ike.AH {
		return s.With(packet.Proto, packet.OneOf(51)), true
	}
	return s.With(packet.Proto, packet.OneOf(50)), true
}

// Outer follows the ESP packets of a policy: routed anew, then output and postrouting. Nothing where an address is not known. The outcomes
// must not be changed.
func (p *Path) Outer(pol *Policy) []Outcome {
	if p.down != nil { // the routes may be others than those of the path that it was made of
		return p.outer(pol)
	}
	return pol.memo.outer.get(func() []Outcome { return p.outer(pol) })
}

func (p *Path) outer(pol *Policy) []Outcome {
	s, ok := pol.esp(true)
	if !ok {
		return nil
	}
	return p.local(ownPackets(s), true, nil)
}

// espLeaves sends ESP packets through postrouting; no policy is asked about them.
func (p *Path) espLeaves(f Flow, h hop) []Outcome {
	var out []Outcome
	for _, v := range p.filter.Through(model.Postrouting, f) {
		if o, done := stopped(v, "postrouting"); done {
			out = append(out, o)
			continue
		}
		out = append(out, Outcome{Flow: v.Flow, Fate: Clear, Where: "leaves", Out: h.dev, Via: h.via})
	}
	return out
}

// Arrive follows the ESP packets of a policy's peer through prerouting and input. Nothing where an address is not known. The outcomes must
// not be changed.
func (p *Path) Arrive(pol *Policy) []Outcome {
	if p.down != nil {
		return p.arrive(pol)
	}
	return pol.memo.arrive.get(func() []Outcome { return p.arrive(pol) })
}

func (p *Path) arrive(pol *Policy) []Outcome {
	set, ok := pol.esp(false)
	if !ok {
		return nil
	}
	var out []Outcome
	f := Fresh(set, "")
	f = p.fromOutside(f, pol.Own, pol.Peer)
	for _, v := range p.filter.Through(model.Prerouting, f) {
		if o, done := stopped(v, "prerouting"); done {
			out = append(out, o)
			continue
		}
		for _, w := range p.filter.Through(model.Input, v.Flow) {
			if o, done := stopped(w, "input"); done {
				out = append(out, o)
				continue
			}
			out = append(out, Outcome{Flow: w.Flow, Fate: Delivered, Where: "input"})
		}
	}
	return out
}
