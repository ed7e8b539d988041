package packet

import (
	"fmt"
	"net/netip"
	"strings"
)

// Packet is one packet, as an example of a set. Fields that a reader of it need not know are left zero.
type Packet struct {
	Family           Family
	Src, Dst         netip.Addr
	Proto            uint8
	Sport, Dport     uint16 // for protocols with ports
	ICMP             uint16 // type*256 + code, for ICMP and ICMPv6
	In, Out          string
	State, Direction uint64
	Translated       uint64
	Mark, ConnMark   uint32
	PeerIn, PeerOut  netip.Addr // invalid where there is none
}

// Set returns the set that holds only this packet.
func (p Packet) Set() Set {
	b := box{fam: p.Family}
	one := func(f Field, n number) { b.put(f, []interval{{n, n}}) }
	one(Src, fromAddr(p.Src))
	one(Dst, fromAddr(p.Dst))
	one(Proto, small(uint64(p.Proto)))
	if WithPorts.Has(uint64(p.Proto)) {
		one(Sport, small(uint64(p.Sport)))
		one(Dport, small(uint64(p.Dport)))
	}
	if p.Proto == 1 || p.Proto == 58 {
		one(ICMP, small(uint64(p.ICMP)))
	}
	one(In, nameNumber(p.In))
	one(Out, nameNumber(p.Out))
	one(State, small(p.State))
	one(Direction, small(p.Direction))
	one(Translated, small(p.Translated))
	one(Mark, small(uint64(p.Mark)))
	one(ConnMark, small(uint64(p.ConnMark)))
	for f, a := range map[Field]netip.Addr{PeerIn: p.PeerIn, PeerOut: p.PeerOut} {
		n := number{}
		if a.IsValid() {
			n = fromAddr(a)
		}
		one(f, n)
	}
	return Set{[]box{b}}
}

// Witness returns a packet of s: the same one each time, and an ordinary one where s leaves the choice (a host address
// rather than a network's, TCP to port 443 rather than protocol 0). ok is false where s is empty.
func (s Set) Witness() (p Packet, ok bool) {
	if len(s.boxes) == 0 {
		return Packet{}, false
	}
	b := &s.boxes[0]
	p = Packet{Family: b.fam}
	p.Src, p.Dst = host(b, Src), host(b, Dst)
	icmp := uint64(1)
	if b.fam == IPv6 {
		icmp = 58
	}
	p.Proto = uint8(prefer(b, Proto, 6, 17, icmp, 50).lo)
	if WithPorts.Has(uint64(p.Proto)) {
		p.Dport = uint16(prefer(b, Dport, 443, 22, 53, 500, 4500).lo)
		p.Sport = uint16(prefer(b, Sport, 50000, 500, 4500).lo)
	}
	if p.Proto == 1 {
		p.ICMP = uint16(prefer(b, ICMP, 8<<8, 0).lo)
	}
	if p.Proto == 58 {
		p.ICMP = uint16(prefer(b, ICMP, 128<<8, 129<<8).lo)
	}
	p.In, p.Out = ifname(b, In), ifname(b, Out)
	p.State = prefer(b, State, New, Established).lo
	p.Direction = prefer(b, Direction, Original).lo
	p.Translated = prefer(b, Translated, 0).lo
	p.Mark, p.ConnMark = uint32(prefer(b, Mark, 0).lo), uint32(prefer(b, ConnMark, 0).lo)
	p.PeerIn, p.PeerOut = peer(b, PeerIn), peer(b, PeerOut)
	return p, true
}

func prefer(b *box, f Field, wanted ...uint64) number {
	in := b.get(f)
	for _, n := range wanted {
		if among(in, small(n)) {
			return small(n)
		}
	}
	return in[0].lo
}

// host picks the tenth address where there are that many, else the second, else the first.
func host(b *box, f Field) netip.Addr {
	in := b.get(f)
	ordinary := fromAddr(netip.AddrFrom4([4]byte{10, 0, 0, 10}))
	if b.fam == IPv6 {
		ordinary = fromAddr(netip.MustParseAddr("2001:db8::10"))
	}
	if among(in, ordinary) {
		return ordinary.addr(b.fam)
	}
	for _, iv := range in {
		if n := iv.lo.plus(small(10)); !iv.hi.less(n) && iv.lo.less(n) {
			return n.addr(b.fam)
		}
	}
	for _, iv := range in {
		if n := iv.lo.next(); n.less(iv.hi) {
			return n.addr(b.fam)
		}
	}
	return in[0].lo.addr(b.fam)
}

func ifname(b *box, f Field) string {
	in := b.get(f)
	if b.at(f) == nil {
		return ""
	}
	for _, iv := range in {
		if iv.lo != (number{}) {
			return iv.lo.name()
		}
	}
	return ""
}

func peer(b *box, f Field) netip.Addr {
	n := prefer(b, f, 0)
	switch {
	case n == (number{}):
		return netip.Addr{}
	case n.hi == 0 && n.lo < 1<<32:
		return n.addr(IPv4)
	}
	return n.addr(IPv6)
}

// String describes the packet as people write it: "tcp 10.1.0.10:50000 > 10.2.0.10:443".
func (p Packet) String() string {
	var b strings.Builder
	if WithPorts.Has(uint64(p.Proto)) {
		fmt.Fprintf(&b, "%s %s > %s", ProtoName(uint64(p.Proto)), netip.AddrPortFrom(p.Src, p.Sport), netip.AddrPortFrom(p.Dst, p.Dport))
	} else {
		fmt.Fprintf(&b, "%s %s > %s", ProtoName(uint64(p.Proto)), p.Src, p.Dst)
	}
	if p.Proto == 1 || p.Proto == 58 {
		fmt.Fprintf(&b, " type %d", p.ICMP>>8)
	}
	return b.String()
}
