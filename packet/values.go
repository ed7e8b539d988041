package packet

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

type interval struct{ lo, hi number } // both included

// Values is an immutable set of values of one field: numbers, or interface names, or addresses of one family. The zero
// Values is empty.
type Values struct{ list *list } // nil: none

// list is values of a field, shared by many boxes: it is never changed.
type list struct {
	in  []interval  // sorted, apart from each other by at least one value; not empty
	one [1]interval // the room of in, where it is a single interval
}

func listOf(in []interval) *list {
	if len(in) == 1 {
		l := &list{one: [1]interval{in[0]}}
		l.in = l.one[:]
		return l
	}
	return &list{in: in}
}

func valuesOf(in []interval) Values {
	if len(in) == 0 {
		return Values{}
	}
	return Values{listOf(in)}
}

// between is the set of the values from lo to hi.
func between(lo, hi number) Values {
	l := &list{one: [1]interval{{lo, hi}}}
	l.in = l.one[:]
	return Values{l}
}

func (v Values) in() []interval {
	if v.list == nil {
		return nil
	}
	return v.list.in
}

// singletons are the sets of one small number, which are asked for all the time.
var singletons [24]list

func init() {
	for n := range singletons {
		l := &singletons[n]
		l.one[0] = interval{small(uint64(n)), small(uint64(n))}
		l.in = l.one[:]
	}
}

// Numbers is the set of all numbers from lo to hi, both included.
func Numbers(lo, hi uint64) Values {
	if hi < lo {
		return Values{}
	}
	return between(small(lo), small(hi))
}

// OneOf is the set of the given numbers.
func OneOf(ns ...uint64) Values {
	if len(ns) == 1 {
		if ns[0] < uint64(len(singletons)) {
			return Values{&singletons[ns[0]]}
		}
		return between(small(ns[0]), small(ns[0]))
	}
	in := make([]interval, len(ns))
	for i, n := range ns {
		in[i] = interval{small(n), small(n)}
	}
	return valuesOf(tidy(in))
}

// Masked is the set of 32-bit numbers n with n&mask == value. A mask with more than twelve free bits above its lowest
// set bit would take too many intervals: then ok is false.
func Masked(value, mask uint32) (v Values, ok bool) {
	if value&^mask != 0 {
		return Values{}, true
	}
	low := 0
	for low < 32 && mask>>low&1 == 0 {
		low++
	}
	if low == 32 {
		return Numbers(0, 1<<32-1), true
	}
	var free []int
	for b := low; b < 32; b++ {
		if mask>>b&1 == 0 {
			free = append(free, b)
		}
	}
	if len(free) > 12 {
		return Values{}, false
	}
	in := make([]interval, 0, 1<<len(free))
	for k := range 1 << len(free) {
		n := uint64(value)
		for i, b := range free {
			n |= uint64(k) >> i & 1 << b
		}
		in = append(in, interval{small(n), small(n | (1<<low - 1))})
	}
	return valuesOf(tidy(in)), true
}

// Name is the set that holds one interface name, or, where the name ends in "*", every name that begins with the part
// before it. A name of more than sixteen bytes is known by a digest.
func Name(name string) Values {
	prefix, wild := strings.CutSuffix(name, "*")
	if !wild {
		n := nameNumber(name)
		return between(n, n)
	}
	prefix = prefix[:min(len(prefix), 16)]
	lo, hi := nameNumber(prefix), nameNumber(prefix)
	for i := len(prefix); i < 16; i++ {
		if i < 8 {
			hi.hi |= 0xff << (56 - 8*i)
		} else {
			hi.lo |= 0xff << (120 - 8*i)
		}
	}
	return between(lo, hi)
}

func nameNumber(name string) number {
	var b [16]byte
	if copy(b[:], name); len(name) > 16 {
		sum := sha256.Sum256([]byte(name))
		copy(b[8:], sum[:8])
	}
	return number{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

func (a number) name() string {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], a.hi)
	binary.BigEndian.PutUint64(b[8:], a.lo)
	return strings.TrimRight(string(b[:]), "\x00")
}

// Prefix is the set of the addresses of a prefix.
func Prefix(p netip.Prefix) Values {
	return between(fromAddr(p.Masked().Addr()), lastOf(p))
}

// Addresses is the set of the addresses from lo to hi, both included and of one family.
func Addresses(lo, hi netip.Addr) Values {
	a, b := fromAddr(lo), fromAddr(hi)
	if b.less(a) {
		return Values{}
	}
	return between(a, b)
}

// String returns the values as numbers and ranges of them, "22, 500-510"; what is wider than 64 bits as hexadecimal digits.
func (v Values) String() string {
	text := func(n number) string {
		if n.hi == 0 {
			return strconv.FormatUint(n.lo, 10)
		}
		return fmt.Sprintf("%#x%016x", n.hi, n.lo)
	}
	var out []string
	for _, i := range v.in() {
		one := text(i.lo)
		if i.hi != i.lo {
			one += "-" + text(i.hi)
		}
		out = append(out, one)
	}
	return strings.Join(out, ", ")
}

// Empty reports whether v holds nothing.
func (v Values) Empty() bool { return v.list == nil }

// Single returns the only value of v as a number, where it is the only one.
func (v Values) Single() (n uint64, ok bool) {
	in := v.in()
	if len(in) != 1 || in[0].lo != in[0].hi {
		return 0, false
	}
	return in[0].lo.lo, true
}

// Ranges are the values as ranges, both ends included, in their order; nil where they are more than 64 bits wide.
func (v Values) Ranges() (out [][2]uint64) {
	for _, i := range v.in() {
		if i.hi.hi != 0 {
			return nil
		}
		out = append(out, [2]uint64{i.lo.lo, i.hi.lo})
	}
	return out
}

// Bounds returns the least and the greatest of values that are one range; ok is false where they are none, or several.
func (v Values) Bounds() (lo, hi uint64, ok bool) {
	in := v.in()
	if len(in) != 1 || in[0].lo.hi != 0 || in[0].hi.hi != 0 {
		return 0, 0, false
	}
	return in[0].lo.lo, in[0].hi.lo, true
}

// Has reports whether v holds the number n.
func (v Values) Has(n uint64) bool { return among(v.in(), small(n)) }

// HasName reports whether v holds an interface name.
func (v Values) HasName(name string) bool { return among(v.in(), nameNumber(name)) }

func among(in []interval, n number) bool {
	i, _ := slices.BinarySearchFunc(in, n, func(iv interval, n number) int {
		if iv.hi.less(n) {
			return -1
		}
		return 1
	})
	return i < len(in) && !n.less(in[i].lo)
}

// Or returns the union.
func (v Values) Or(w Values) Values {
	return valuesOf(tidy(slices.Concat(v.in(), w.in())))
}

// And returns the intersection.
func (v Values) And(w Values) Values { return valuesOf(meet(v.in(), w.in())) }

// Minus returns what is in v and not in w.
func (v Values) Minus(w Values) Values { return valuesOf(without(v.in(), w.in())) }

// Join returns the union of many.
func Join(vs ...Values) Values {
	var in []interval
	for _, v := range vs {
		in = append(in, v.in()...)
	}
	return valuesOf(tidy(in))
}

// Split returns what of v lies below all of w, and what lies above.
func (v Values) Split(w Values) (below, above Values) {
	if w.Empty() {
		return v, v
	}
	first, last := w.list.in[0].lo, w.list.in[len(w.list.in)-1].hi
	if first != (number{}) {
		below = v.And(between(number{}, first.prev()))
	}
	if last != largest {
		above = v.And(between(last.next(), largest))
	}
	return below, above
}

// Equal reports whether both hold the same.
func (v Values) Equal(w Values) bool { return slices.Equal(v.in(), w.in()) }

func tidy(in []interval) []interval {
	slices.SortFunc(in, func(a, b interval) int {
		if a.lo.less(b.lo) {
			return -1
		} else if b.lo.less(a.lo) {
			return 1
		}
		return 0
	})
	out := in[:0]
	for _, iv := range in {
		if n := len(out); n > 0 && (!out[n-1].hi.less(iv.lo) || out[n-1].hi.next() == iv.lo) {
			out[n-1].hi = higher(out[n-1].hi, iv.hi)
		} else {
			out = append(out, iv)
		}
	}
	return out
}

func meet(a, b []interval) []interval {
	var out []interval
	for i, j := 0, 0; i < len(a) && j < len(b); {
		lo, hi := higher(a[i].lo, b[j].lo), lower(a[i].hi, b[j].hi)
		if !hi.less(lo) {
			out = append(out, interval{lo, hi})
		}
		if a[i].hi.less(b[j].hi) {
			i++
		} else {
			j++
		}
	}
	return out
}

func meets(a, b []interval) bool {
	for i, j := 0, 0; i < len(a) && j < len(b); {
		if !lower(a[i].hi, b[j].hi).less(higher(a[i].lo, b[j].lo)) {
			return true
		}
		if a[i].hi.less(b[j].hi) {
			i++
		} else {
			j++
		}
	}
	return false
}

// within reports whether all of a is in b.
func within(a, b []interval) bool {
	j := 0
	for _, iv := range a {
		for j < len(b) && b[j].hi.less(iv.lo) {
			j++
		}
		if j == len(b) || iv.lo.less(b[j].lo) || b[j].hi.less(iv.hi) { // what is apart in b is apart by some value
			return false
		}
	}
	return true
}

func without(a, b []interval) []interval {
	var out []interval
	j := 0
	for _, iv := range a {
		for j < len(b) && b[j].hi.less(iv.lo) {
			j++
		}
		open := true
		for k := j; k < len(b) && !iv.hi.less(b[k].lo); k++ {
			if iv.lo.less(b[k].lo) {
				out = append(out, interval{iv.lo, b[k].lo.prev()})
			}
			if !b[k].hi.less(iv.hi) {
				open = false
				break
			}
			iv.lo = b[k].hi.next()
		}
		if open {
			out = append(out, iv)
		}
	}
	return out
}

// prefixes returns the least list of prefixes that covers exactly the addresses of v that are of the family.
func (v Values) prefixes(f Family) []netip.Prefix {
	width := f.bits()
	var out []netip.Prefix
	for _, iv := range meet(v.in(), []interval{{number{}, topOf(Src, f)}}) {
		for lo := iv.lo; ; {
			host := min(trailingZeros(lo), width)
			for host > 0 && iv.hi.less(lo.plus(blockSize(host)).prev()) {
				host--
			}
			out = append(out, netip.PrefixFrom(lo.addr(f), width-host))
			last := lo.plus(blockSize(host)).prev() // a block of 128 bits wraps round to its last address
			if !last.less(iv.hi) {
				break
			}
			lo = last.next()
		}
	}
	return out
}

func trailingZeros(n number) int {
	if n == (number{}) {
		return 128
	}
	host := 0
	for n.lo>>1<<1 == n.lo {
		n = number{n.hi >> 1, n.lo>>1 | n.hi<<63}
		host++
	}
	return host
}

func blockSize(host int) number {
	switch {
	case host >= 128:
		return number{}
	case host >= 64:
		return number{hi: 1 << (host - 64)}
	}
	return small(1 << host)
}
