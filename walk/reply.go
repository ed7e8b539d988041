package walk

import (
	"net/netip"

	"toril/model"
	"toril/packet"
)

// answer is the answer to a packet: first as its sender sent it, last as it ended.
func answer(first, last packet.Packet) packet.Packet {
	a := packet.Packet{
		Family:    last.Family,
		Src:       last.Dst,
		Dst:       last.Src,
		Proto:     last.Proto,
		Sport:     last.Dport,
		Dport:     last.Sport,
		ICMP:      last.ICMP,
		ConnMark:  last.ConnMark,
		State:     packet.Established,
		Direction: packet.Reply,
	}
	switch {
	case last.Proto == 1 && last.ICMP == 8<<8:
		a.ICMP = 0
	case last.Proto == 58 && last.ICMP == 128<<8:
		a.ICMP = 129 << 8
	}
	if first.Src != last.Src || first.Sport != last.Sport {
		a.Translated |= 1
	}
	if first.Dst != last.Dst || first.Dport != last.Dport {
		a.Translated |= 2
	}
	return a
}

// ReplySelf follows the gateway's own answer to a packet that was delivered to it.
func (p *Path) ReplySelf(first, last packet.Packet) []Outcome {
	return p.local(Start(answer(first, last).Set()), false, restoring(first))
}

// restoring undoes the destination translation of the answer to a packet: at the place of source NAT.
func restoring(first packet.Packet) func(Flow) Flow {
	return func(f Flow) Flow {
		f.Now = f.Now.Replace(packet.Src, packet.Addresses(first.Dst, first.Dst))
		if packet.WithPorts.Has(uint64(first.Proto)) {
			f.Now = f.Now.Replace(packet.Sport, packet.OneOf(uint64(first.Dport)))
		}
		return f
	}
}

// Reply follows the answer to a packet: first is the packet as its sender sent it, last as it left this gateway, and in
// and peer are where the answer comes from: an interface, and the far end of a tunnel that it came out of (invalid for
// none). Translations are undone by connection tracking; no nat chain is asked.
func (p *Path) Reply(first, last packet.Packet, in string, peer netip.Addr) []Outcome {
	answer := answer(first, last)
	answer.In, answer.PeerIn = in, peer
	to := packet.Addresses(first.Src, first.Src)
	back := func(f Flow) Flow { // at the place of destination NAT, the source translation is undone
		f.Now = f.Now.Replace(packet.Dst, to)
		if packet.WithPorts.Has(uint64(first.Proto)) {
			f.Now = f.Now.Replace(packet.Dport, packet.OneOf(uint64(first.Sport)))
		}
		return f
	}
	var out []Outcome
	now, undone := []Flow{Start(answer.Set())}, false
	for _, c := range append(p.filter.Bases(model.Prerouting), nil) {
		if !undone && (c == nil || c.Priority >= -100) {
			for i := range now {
				now[i] = back(now[i])
			}
			undone = true
		}
		if c == nil {
			break
		}
		var next []Flow
		for _, f := range now {
			for _, v := range p.filter.one(c, Verdict{Flow: f, Verb: model.Accept}) {
				if o, done := stopped(v, "prerouting"); done {
					out = append(out, o)
					continue
				}
				next = append(next, v.Flow)
			}
		}
		now = next
	}
	for _, f := range now {
		for _, h := range p.router.Decide(f) {
			h.restore = restoring(first)
			out = joined(out, p.routed(h))
		}
	}
	return out
}
