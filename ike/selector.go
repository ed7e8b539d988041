package ike

import (
	"cmp"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strings"

	"toril/packet"
)

// Selector is a traffic selector (RFC 7296 section 3.13): addresses, one protocol or all, a range of ports.
type Selector struct {
	Lo, Hi         netip.Addr // both included, of one family; invalid with Dynamic
	Dynamic        bool       // the IKE address of its side
	Proto          uint8      // 0: every protocol
	LoPort, HiPort uint16     // 0 to 65535: every port
	Opaque         bool       // only packets whose ports cannot be seen (RFC 7296 section 3.13.1)
}

// SelectPrefix makes the selector of a network, for every protocol and port.
func SelectPrefix(p netip.Prefix) Selector {
	return Selector{Lo: p.Masked().Addr(), Hi: lastAddr(p), HiPort: 65535}
}

// lastAddr is the last address of a network.
func lastAddr(p netip.Prefix) netip.Addr {
	a := p.Masked().Addr()
	if a.Is4() {
		b := a.As4()
		fill(b[:], p.Bits())
		return netip.AddrFrom4(b)
	}
	b := a.As16()
	fill(b[:], p.Bits())
	return netip.AddrFrom16(b)
}

// fill sets the bits of an address behind its network's.
func fill(b []byte, bits int) {
	for i := bits / 8; i < len(b); i++ {
		if i == bits/8 {
			b[i] |= 0xff >> (bits % 8)
			continue
		}
		b[i] = 0xff
	}
}

// At returns the selector with a dynamic address replaced.
func (s Selector) At(a netip.Addr) Selector {
	if s.Dynamic && a.IsValid() {
		s.Lo, s.Hi, s.Dynamic = a, a, false
	}
	return s
}

// AllPorts reports whether the selector leaves the port open.
func (s Selector) AllPorts() bool { return s.LoPort == 0 && s.HiPort == 65535 }

// AnyAddress reports whether the selector holds every address of its family.
func (s Selector) AnyAddress() bool {
	if s.Dynamic || !s.Lo.IsValid() {
		return false
	}
	return s.Lo.IsUnspecified() && s.Hi == lastAddr(netip.PrefixFrom(s.Hi, 0))
}

// Prefix returns the network that the selector's addresses are; ok is false for a range that is none, and where they are not known.
func (s Selector) Prefix() (p netip.Prefix, ok bool) {
	lo, hi := s.Lo.AsSlice(), s.Hi.AsSlice()
	if len(lo) == 0 || len(lo) != len(hi) {
		return netip.Prefix{}, false
	}
	same := 0
	for i := range lo {
		n := bits.LeadingZeros8(lo[i] ^ hi[i])
		if same += n; n < 8 {
			break
		}
	}
	p = netip.PrefixFrom(s.Lo, same)
	return p, p.Masked().Addr() == s.Lo && lastAddr(p) == s.Hi
}

// Addresses writes the selector's addresses: a prefix where they are one, else a range.
func (s Selector) Addresses() string {
	switch {
	case s.Dynamic:
		return "own address"
	case !s.Lo.IsValid():
		return "none"
	case s.Lo == s.Hi:
		return s.Lo.String()
	}
	if p, ok := s.Prefix(); ok {
		return p.String()
	}
	return s.Lo.String() + "-" + s.Hi.String()
}

// String writes the selector: "10.1.0.0/24", "10.1.0.0/24 tcp 443", "10.1.0.1-10.1.0.9 udp".
func (s Selector) String() string {
	out := s.Addresses()
	if s.Proto != 0 {
		out += " " + packet.ProtoName(uint64(s.Proto))
	}
	switch {
	case s.Opaque:
		out += " opaque"
	case s.AllPorts():
	case s.LoPort == s.HiPort:
		out += fmt.Sprintf(" %d", s.LoPort)
	default:
		out += fmt.Sprintf(" %d-%d", s.LoPort, s.HiPort)
	}
	return out
}

// Compare orders selectors by address, then protocol, then port.
func (s Selector) Compare(t Selector) int {
	opaque := func(s Selector) int {
		if s.Opaque {
			return 1
		}
		return 0
	}
	return cmp.Or(
		s.Lo.Compare(t.Lo),
		s.Hi.Compare(t.Hi),
		cmp.Compare(s.Proto, t.Proto),
		cmp.Compare(s.LoPort, t.LoPort),
		cmp.Compare(s.HiPort, t.HiPort),
		opaque(s)-opaque(t),
	)
}

// Meet returns the part that both selectors have (RFC 7296 section 2.9); ok is false where there is none. An own address
// that is not known meets itself, and every selector of any address.
func (s Selector) Meet(t Selector) (out Selector, ok bool) {
	if s.Proto != 0 && t.Proto != 0 && s.Proto != t.Proto || s.Opaque != t.Opaque {
		return out, false
	}
	out = Selector{Proto: max(s.Proto, t.Proto), LoPort: max(s.LoPort, t.LoPort), HiPort: min(s.HiPort, t.HiPort), Opaque: s.Opaque}
	switch {
	case s.Dynamic || t.Dynamic:
		out.Dynamic = true
		ok = s.Dynamic && t.Dynamic || s.AnyAddress() || t.AnyAddress()
	case s.Lo.BitLen() == t.Lo.BitLen():
		out.Lo, out.Hi = higherAddr(s.Lo, t.Lo), lowerAddr(s.Hi, t.Hi)
		ok = out.Lo.Compare(out.Hi) <= 0
	}
	return out, ok && out.LoPort <= out.HiPort
}

// Holds reports whether t lies within s.
func (s Selector) Holds(t Selector) bool {
	both, ok := s.Meet(t)
	return ok && both == t
}

func lowerAddr(a, b netip.Addr) netip.Addr {
	if b.Less(a) {
		return b
	}
	return a
}

func higherAddr(a, b netip.Addr) netip.Addr {
	if a.Less(b) {
		return b
	}
	return a
}

// Selectors is the list of one side.
type Selectors []Selector

// At returns the list with dynamic selectors replaced by an address. It is the same where there are none, and must not be changed.
func (ss Selectors) At(a netip.Addr) Selectors {
	if !a.IsValid() || !ss.Dynamic() {
		return slices.Clip(ss)
	}
	out := make(Selectors, len(ss))
	for i, s := range ss {
		out[i] = s.At(a)
	}
	return out
}

// String writes the list with commas between.
func (ss Selectors) String() string {
	out := make([]string, len(ss))
	for i, s := range ss {
		out[i] = s.String()
	}
	return strings.Join(out, ", ")
}

// Dynamic reports whether some selector stands for an address that the configuration does not say.
func (ss Selectors) Dynamic() bool {
	for i := range ss {
		if ss[i].Dynamic {
			return true
		}
	}
	return false
}

// AnyAddress reports whether some selector of the list holds every address of its family.
func (ss Selectors) AnyAddress() bool { return slices.ContainsFunc(ss, Selector.AnyAddress) }

// Meet returns the pairwise intersections of two lists without those that lie within others: what an IKEv2 responder
// makes of a proposal (RFC 7296 section 2.9). It is empty where the lists have nothing in common.
func (ss Selectors) Meet(ts Selectors) Selectors {
	var all Selectors
	for _, s := range ss {
		for _, t := range ts {
			if both, ok := s.Meet(t); ok {
				all = append(all, both)
			}
		}
	}
	return all.Reduce()
}

// Reduce returns the list without selectors that lie within others, in the order of first mention.
func (ss Selectors) Reduce() Selectors {
	const few = 32
	if len(ss) > few && !slices.ContainsFunc(ss, func(s Selector) bool { return s.Dynamic || !s.Lo.IsValid() }) {
		return ss.reduceMany()
	}
	var out Selectors
	for i, s := range ss {
		covered := false
		for j, t := range ss {
			if i != j && t.Holds(s) && (j < i || !s.Holds(t)) {
				covered = true
				break
			}
		}
		if !covered {
			out = append(out, s)
		}
	}
	return out
}

// reduceMany does so with selectors whose addresses are known: in an order in which what holds one comes before it, each is held against
// those only that begin no later and have not ended.
func (ss Selectors) reduceMany() Selectors {
	order := make([]int, len(ss))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(i, j int) int {
		s, t := &ss[i], &ss[j]
		return cmp.Or(s.Lo.Compare(t.Lo), t.Hi.Compare(s.Hi), cmp.Compare(s.Proto, t.Proto), cmp.Compare(s.LoPort, t.LoPort),
			cmp.Compare(t.HiPort, s.HiPort), cmp.Compare(i, j))
	})
	covered := make([]bool, len(ss))
	var open []int
	for _, i := range order {
		open = slices.DeleteFunc(open, func(j int) bool { return ss[j].Hi.Less(ss[i].Lo) })
		if covered[i] = slices.ContainsFunc(open, func(j int) bool { return ss[j].Holds(ss[i]) }); !covered[i] {
			open = append(open, i)
		}
	}
	var out Selectors
	for i, s := range ss {
		if !covered[i] {
			out = append(out, s)
		}
	}
	return out
}

// Packets returns the packets whose source is in one of the selectors: addresses, protocol, source port (or ICMP type
// and code, which RFC 4301 section 4.4.1.1 puts into the port).
func (ss Selectors) Packets() packet.Set {
	if len(ss) == 1 { // mostly
		return ss[0].packets()
	}
	sets := make([]packet.Set, len(ss))
	for i := range ss {
		sets[i] = ss[i].packets()
	}
	return packet.Union(sets...)
}

// packets are none where the addresses are not known.
func (s *Selector) packets() packet.Set {
	if s.Dynamic || !s.Lo.IsValid() {
		return packet.None()
	}
	set := packet.Range(packet.Src, s.Lo, s.Hi)
	if s.Proto != 0 {
		set = set.With(packet.Proto, packet.OneOf(uint64(s.Proto)))
	}
	if !s.AllPorts() {
		field := packet.Sport
		if s.Proto == 1 || s.Proto == 58 {
			field = packet.ICMP
		}
		set = set.With(field, packet.Numbers(uint64(s.LoPort), uint64(s.HiPort)))
	}
	return set
}

// Domain returns the packets from local to remote, dynamic selectors standing for own and peer. An ICMP selector of
// either side is met by a packet's type and code.
func Domain(local, remote Selectors, own, peer netip.Addr) packet.Set {
	return local.At(own).Packets().And(remote.At(peer).Packets().Mirror())
}

// Hold reports whether an address is among those of the selectors, for every protocol.
func (ss Selectors) Hold(a netip.Addr) bool {
	return slices.ContainsFunc(ss, func(s Selector) bool {
		return s.Lo.IsValid() && s.Lo.BitLen() == a.BitLen() && s.Lo.Compare(a) <= 0 && a.Compare(s.Hi) <= 0
	})
}
