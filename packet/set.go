// Package packet holds exact sets of packets: which addresses, protocols, ports, interfaces, connection states, marks
// and IPsec peers. A Set is a value; every operation gives a new one.
//
// A Set is a list of boxes, a box the product of one set of values a field. What is exact in each field is exact as a
// whole: there is no sampling and no approximation. Work is bounded: where a result would take more than MaxBoxes
// boxes, the operation unwinds to the enclosing Guard, which returns ErrLimit. So a limit never becomes a wrong answer.
package packet

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"slices"
)

// Family is the version of the Internet Protocol.
type Family uint8

// The families.
const (
	IPv4 Family = 4
	IPv6 Family = 6
)

func (f Family) bits() int {
	if f == IPv4 {
		return 32
	}
	return 128
}

// Field is a property of a packet that rules look at.
type Field uint8

// The fields. Ports exist in packets of TCP, UDP, DCCP, SCTP and UDP-Lite; ICMP is type*256+code of ICMP and ICMPv6.
const (
	Src        Field = iota // source address
	Dst                     // destination address
	Proto                   // protocol number (IANA, the last header's)
	Sport                   // source port
	Dport                   // destination port
	ICMP                    // type*256 + code
	In                      // name of the interface it came in by; "" for the gateway's own packets
	Out                     // name of the interface it will leave by; "" for packets to the gateway itself
	State                   // connection state: New ... Untracked
	Direction               // of the connection: Original or Reply
	Translated              // of the connection: bit 0 source, bit 1 destination
	Mark                    // 32-bit mark of the packet
	ConnMark                // 32-bit mark of its connection
	PeerIn                  // address of the IPsec peer it was decrypted from; 0 where it came in the clear
	PeerOut                 // address of the IPsec peer it will be encrypted to; 0 where it will leave in the clear
	fields
)

// Connection states, as values of State.
const (
	New uint64 = iota
	Established
	Related
	Invalid
	Untracked
)

// Directions, as values of Direction.
const (
	Original uint64 = iota
	Reply
)

// MaxBoxes is the number of boxes beyond which an operation gives up.
const MaxBoxes = 1 << 13

// ErrLimit says that a question was too complex to be answered within MaxBoxes.
var ErrLimit = errors.New("the packet sets of this question are too complex to be answered exactly")

type overLimit struct{}

// Guard runs f and returns ErrLimit where an operation in it gave up.
func Guard(f func()) (err error) {
	defer func() {
		switch r := recover().(type) {
		case nil:
		case overLimit:
			err = ErrLimit
		default:
			panic(r)
		}
	}()
	f()
	return nil
}

// WithPorts are the protocols that have ports.
var WithPorts = OneOf(6, 17, 33, 132, 136)

// WithTypes are the protocols whose packets have a type: ICMP and ICMPv6.
var WithTypes = OneOf(1, 58)

func topOf(f Field, fam Family) number {
	switch f {
	case Src, Dst:
		if fam == IPv4 {
			return small(1<<32 - 1)
		}
		return largest
	case Proto:
		return small(255)
	case Sport, Dport, ICMP:
		return small(65535)
	case State:
		return small(Untracked)
	case Direction:
		return small(Reply)
	case Translated:
		return small(3)
	case Mark, ConnMark:
		return small(1<<32 - 1)
	}
	return largest
}

// Set is an immutable set of packets. The zero Set is empty.
type Set struct{ boxes []box }

var every, four, six = Set{[]box{{fam: IPv4}, {fam: IPv6}}}, Set{[]box{{fam: IPv4}}}, Set{[]box{{fam: IPv6}}}

// All is the set of every packet.
func All() Set { return every }

// None is the empty set.
func None() Set { return Set{} }

// Only is the set of every packet of one family.
func Only(f Family) Set {
	switch f {
	case IPv4:
		return four
	case IPv6:
		return six
	}
	return Set{[]box{{fam: f}}}
}

// Where is the set of the packets whose field has one of the values. Asking for a port also asks for a protocol that
// has ports, asking for an ICMP type for ICMP or ICMPv6. Src, Dst and peers are asked for with Prefixes or Range.
func Where(f Field, v Values) Set { return All().With(f, v) }

// With restricts s as Where does.
func (s Set) With(f Field, v Values) Set {
	if p := protocolsWith(f); !p.Empty() {
		s = s.with(Proto, p)
	}
	return s.with(f, v)
}

// protocolsWith are the protocols whose packets alone have a field; empty where all have.
func protocolsWith(f Field) Values {
	switch f {
	case Sport, Dport:
		return WithPorts
	case ICMP:
		return WithTypes
	}
	return Values{}
}

func (s Set) with(f Field, v Values) Set {
	if v.Empty() {
		return None()
	}
	if s.takes(f, v) {
		return s
	}
	out := make([]box, 0, len(s.boxes))
	for i := range s.boxes {
		out = append(out, s.boxes[i])
		if !out[len(out)-1].narrow(f, v) {
			out = out[:len(out)-1]
		}
	}
	return Set{out}
}

// Term is a condition on packets: that they are of a family, where one is given, and that a field has one of the values.
type Term struct {
	Family Family // 0: of any
	Field  Field
	Values Values
}

// WithAll restricts s by every term, as With does by one, in a single step.
func (s Set) WithAll(terms ...Term) Set {
	if len(terms) == 0 {
		return s
	}
	out := make([]box, 0, len(s.boxes))
	for i := range s.boxes {
		if s.boxes[i].serves(terms) {
			out = append(out, s.boxes[i])
			if !out[len(out)-1].narrowAll(terms) {
				out = out[:len(out)-1]
			}
		}
	}
	return Set{out}
}

// serves reports whether the terms are for packets of the box's family.
func (b *box) serves(terms []Term) bool {
	for i := range terms {
		if terms[i].Family != 0 && terms[i].Family != b.fam {
			return false
		}
	}
	return true
}

func (b *box) narrowAll(terms []Term) bool {
	for i := range terms {
		t, p := &terms[i], protocolsWith(terms[i].Field)
		if t.Values.Empty() || !p.Empty() && !b.narrow(Proto, p) || !b.narrow(t.Field, t.Values) {
			return false
		}
	}
	return true
}

// takes reports whether s asks for no other values of a field than these.
func (s Set) takes(f Field, v Values) bool {
	for i := range s.boxes {
		if in := s.boxes[i].in(f); in == nil || !within(in, v.in()) {
			return false
		}
	}
	return true
}

// part reports whether values are some, and not all, of those from 0 to the top.
func (v Values) part(top number) bool {
	in := v.in()
	first, last := in[0], in[len(in)-1]
	return !top.less(last.hi) && (len(in) > 1 || first.lo != (number{}) || last.hi != top)
}

// Range is the set of the packets whose address field (Src, Dst, PeerIn or PeerOut) lies between lo and hi, both
// included and of one family. Any family's packets may have a peer of either family.
func Range(f Field, lo, hi netip.Addr) Set {
	lo, hi = lo.Unmap(), hi.Unmap()
	if lo.Is4() != hi.Is4() {
		return None()
	}
	first, last := fromAddr(lo), fromAddr(hi)
	fam := IPv4
	if !lo.Is4() {
		fam = IPv6
	}
	if f == PeerIn || f == PeerOut || last.less(first) || first == (number{}) && last == topOf(f, fam) {
		return addressed(f, lo.Is4(), Addresses(lo, hi))
	}
	made := &struct { // in one piece: this is asked very often
		list
		box [1]box
	}{list: list{one: [1]interval{{first, last}}}, box: [1]box{{fam: fam}}}
	made.in = made.one[:]
	made.box[0].share(f, &made.list)
	return Set{made.box[:]}
}

// Prefixes is the set of the packets whose address field lies in one of the prefixes.
func Prefixes(f Field, ps ...netip.Prefix) Set {
	var four, six []interval
	for _, p := range ps {
		iv := Prefix(p).list.in[0]
		if p.Addr().Is4() {
			four = append(four, iv)
		} else {
			six = append(six, iv)
		}
	}
	return addressed(f, true, valuesOf(tidy(four))).Or(addressed(f, false, valuesOf(tidy(six))))
}

func addressed(f Field, four bool, v Values) Set {
	if f == PeerIn || f == PeerOut {
		return Where(f, v)
	}
	if four {
		return Only(IPv4).with(f, v)
	}
	return Only(IPv6).with(f, v)
}

// Or returns the union.
func (s Set) Or(t Set) Set {
	if len(s.boxes) == 0 {
		return t
	}
	if len(t.boxes) == 0 {
		return s
	}
	return bounded(merge(slices.Concat(s.boxes, t.boxes)))
}

// Union returns the union of many sets. It does not care for their order.
func Union(sets ...Set) Set {
	size := 0
	for _, s := range sets {
		size += len(s.boxes)
	}
	all := make([]box, 0, size)
	for _, s := range sets {
		if len(s.boxes) == size && size < 2 { // it is all there is
			return s
		}
		all = append(all, s.boxes...)
	}
	return bounded(merge(all))
}

// And returns the intersection.
func (s Set) And(t Set) Set {
	switch {
	case t.over(s):
		return s
	case s.over(t):
		return t
	}
	out := make([]box, 0, min(len(s.boxes), len(t.boxes)))
	for i := range s.boxes {
		for j := range t.boxes {
			if b, ok := s.boxes[i].meet(&t.boxes[j]); ok {
				out = append(out, b)
			}
		}
		if len(out) > MaxBoxes {
			out = merge(out)
			bounded(out)
		}
	}
	return bounded(merge(out))
}

// over reports whether each box of t lies within a box of s, where s has no more than two, as questions often have.
func (s Set) over(t Set) bool {
	if len(s.boxes) > 2 || len(s.boxes) == 0 {
		return len(t.boxes) == 0
	}
	for i := range t.boxes {
		if b := &t.boxes[i]; !s.boxes[0].holds(b) && !s.boxes[len(s.boxes)-1].holds(b) {
			return false
		}
	}
	return true
}

// Minus returns what is in s and not in t.
func (s Set) Minus(t Set) Set {
	left, changed := s.boxes, false
	for j := range t.boxes {
		if !anyMeets(left, &t.boxes[j]) {
			continue
		}
		var next []box
		for i := range left {
			if left[i].meets(&t.boxes[j]) {
				next = left[i].cut(&t.boxes[j], next)
			} else {
				next = append(next, left[i])
			}
		}
		if len(next) > MaxBoxes {
			next = merge(next)
			bounded(next)
		}
		left, changed = next, true
		if len(left) == 0 {
			return None()
		}
	}
	if !changed {
		return s
	}
	return bounded(merge(left))
}

// Not returns every packet that is not in s.
func (s Set) Not() Set { return All().Minus(s) }

func anyMeets(boxes []box, c *box) bool {
	for i := range boxes {
		if boxes[i].meets(c) {
			return true
		}
	}
	return false
}

// Empty reports whether s holds no packet.
func (s Set) Empty() bool { return len(s.boxes) == 0 }

// Overlaps reports whether some packet is in both.
func (s Set) Overlaps(t Set) bool {
	for i := range t.boxes {
		if anyMeets(s.boxes, &t.boxes[i]) {
			return true
		}
	}
	return false
}

// Contains reports whether every packet of t is in s.
func (s Set) Contains(t Set) bool {
	for i := range t.boxes {
		b, meeting, held := &t.boxes[i], 0, false
		for k := range s.boxes {
			if s.boxes[k].holds(b) {
				held = true
				break
			}
			if s.boxes[k].meets(b) {
				meeting++
			}
		}
		switch {
		case held:
		case meeting < 2: // the one that it meets does not hold it
			return false
		default:
			return t.Minus(s).Empty()
		}
	}
	return true
}

// Equal reports whether both hold the same packets.
func (s Set) Equal(t Set) bool { return s.Contains(t) && t.Contains(s) }

// Has reports whether s holds the packet.
func (s Set) Has(p Packet) bool { return s.Overlaps(p.Set()) }

// Boxes returns the number of boxes that s takes, as a measure of its complexity.
func (s Set) Boxes() int { return len(s.boxes) }

// Parts returns the boxes of s, each as a set.
func (s Set) Parts() []Set {
	out := make([]Set, len(s.boxes))
	for i := range s.boxes {
		out[i] = Set{s.boxes[i : i+1 : i+1]}
	}
	return out
}

// OnTheWire leaves the packets of s what they are on the wire, whatever the gateway knows of them: interfaces, connection, marks, peers.
func (s Set) OnTheWire() Set {
	return s.Free(In, Out, State, Direction, Translated, Mark, ConnMark, PeerIn, PeerOut)
}

// Single returns the one value that a field of 32 bits at most has in a part of a set; ok is false where it has several.
func (s Set) Single(f Field) (v uint32, ok bool) {
	if len(s.boxes) != 1 || s.boxes[0].at(f) == nil {
		return 0, false
	}
	in := s.boxes[0].in(f)
	if len(in) != 1 || in[0].lo != in[0].hi {
		return 0, false
	}
	return uint32(in[0].lo.lo), true
}

// Values returns the values that a field has in s, of packets of one family.
func (s Set) Values(f Field, fam Family) Values {
	var in []interval
	for i := range s.boxes {
		if b := &s.boxes[i]; b.fam == fam {
			in = append(in, b.get(f)...)
		}
	}
	return valuesOf(tidy(in))
}

// Prefixes returns the addresses that an address field has in s as the least list of prefixes, IPv4 before IPv6.
func (s Set) Prefixes(f Field) []netip.Prefix {
	return append(s.Values(f, IPv4).prefixes(IPv4), s.Values(f, IPv6).prefixes(IPv6)...)
}

// Families returns the families of the packets in s.
func (s Set) Families() []Family {
	var out []Family
	for _, f := range []Family{IPv4, IPv6} {
		if slices.ContainsFunc(s.boxes, func(b box) bool { return b.fam == f }) {
			out = append(out, f)
		}
	}
	return out
}

// Replace returns the packets of s with a field set to any of the values, whatever it was: what a translation makes of
// them. For an address the values must be of the packets' family.
func (s Set) Replace(f Field, v Values) Set {
	if v.Empty() {
		return None()
	}
	out := make([]box, 0, len(s.boxes))
	for i := range s.boxes {
		out = append(out, s.boxes[i])
		b := &out[len(out)-1]
		switch {
		case v.part(topOf(f, b.fam)):
			b.set(f, v.list)
		case !b.put(f, meet(v.in(), whole(f, b.fam))):
			out = out[:len(out)-1]
		}
	}
	return bounded(merge(out))
}

// Shift returns the packets of s with an address field moved from one prefix onto another of the same length, host
// part kept. Every address of the field must lie in from.
func (s Set) Shift(f Field, from, to netip.Prefix) Set {
	base, target := fromAddr(from.Masked().Addr()), fromAddr(to.Masked().Addr())
	var out []box
	for i := range s.boxes {
		b := s.boxes[i]
		var in []interval
		for _, iv := range b.get(f) {
			in = append(in, interval{iv.lo.minus(base).plus(target), iv.hi.minus(base).plus(target)})
		}
		if b.put(f, in) {
			out = append(out, b)
		}
	}
	return Set{out}
}

// Free returns the packets of s whatever the value of a field: s forgets it.
func (s Set) Free(fs ...Field) Set {
	out := slices.Clone(s.boxes)
	for i := range out {
		for _, f := range fs {
			out[i].free(f)
		}
	}
	return bounded(merge(out))
}

// Mirror returns the packets that go the other way: source and destination changed over, ports too; whatever the values of the fields that
// it is to forget.
func (s Set) Mirror(forget ...Field) Set {
	out := slices.Clone(s.boxes)
	for i := range out {
		b := &out[i]
		for _, f := range [][2]Field{{Src, Dst}, {Sport, Dport}} {
			one, other := b.at(f[0]), b.at(f[1])
			b.set(f[0], other)
			b.set(f[1], one)
		}
		for _, f := range forget {
			b.free(f)
		}
	}
	if len(forget) > 0 {
		out = merge(out)
	}
	return Set{out}
}

// MarshalBinary writes the set for a record of Toril's own.
func (s Set) MarshalBinary() ([]byte, error) {
	out := binary.AppendUvarint(nil, uint64(len(s.boxes)))
	for i := range s.boxes {
		b := &s.boxes[i]
		out = binary.AppendUvarint(append(out, byte(b.fam)), uint64(b.has))
		for f := range each(b.has) {
			in := b.in(f)
			out = binary.AppendUvarint(out, uint64(len(in)))
			for _, iv := range in {
				for _, n := range [...]uint64{iv.lo.hi, iv.lo.lo, iv.hi.hi, iv.hi.lo} {
					out = binary.AppendUvarint(out, n)
				}
			}
		}
	}
	return out, nil
}

// UnmarshalBinary reads what MarshalBinary wrote.
func (s *Set) UnmarshalBinary(data []byte) error {
	bad := false
	next := func() uint64 {
		n, size := binary.Uvarint(data)
		if size <= 0 {
			bad = true
			return 0
		}
		data = data[size:]
		return n
	}
	count := next()
	*s = Set{}
	for ; count > 0 && !bad && len(data) > 0; count-- {
		b := box{fam: Family(data[0])}
		data = data[1:]
		has := next()
		if has >= 1<<fields || b.fam != IPv4 && b.fam != IPv6 {
			return errDamaged
		}
		for f := range each(uint16(has)) {
			n := next()
			if bad || n == 0 || n > uint64(len(data)) {
				return errDamaged
			}
			in := make([]interval, n)
			for i := range in {
				in[i] = interval{number{next(), next()}, number{next(), next()}}
			}
			b.share(f, listOf(in))
		}
		s.boxes = append(s.boxes, b)
	}
	if bad || count > 0 || len(data) > 0 {
		return errDamaged
	}
	return nil
}

var errDamaged = errors.New("the record of a packet set is damaged")

func bounded(boxes []box) Set {
	if len(boxes) > MaxBoxes {
		panic(overLimit{})
	}
	return Set{boxes}
}

// TooComplex returns the value to panic with where work outside of this package passes a limit of its own: the
// enclosing Guard makes it ErrLimit.
func TooComplex() any { return overLimit{} }
