package packet

import (
	"iter"
	"math/bits"
	"slices"
	"sync"
)

// box is a product of values of each field; a field that is not restricted has none. Most boxes restrict few fields, and there are very
// many boxes: the fields that are restricted seldom have their room only where one is.
type box struct {
	fam  Family
	not  uint16 // the values that the fields of few values have not: a bit for each of allOf's
	has  uint16 // a bit for each field that is restricted
	v    [usual]*list
	more *[seldom]*list // never changed: boxes share it
}

// The places of fields in v and more.
const usual, seldom = 7, 5

// placeOf is where a field's values are: in v, in more behind that, or in not behind that.
var placeOf = [fields]uint8{
	Src: 0, Dst: 1, Proto: 2, Dport: 3, In: 4, Mark: 5, PeerIn: 6,
	Sport: usual, ICMP: usual + 1, Out: usual + 2, PeerOut: usual + 3, ConnMark: usual + 4,
	State: usual + seldom, Direction: usual + seldom + 1, Translated: usual + seldom + 2,
}

// The fields of few values, and the bits in box.not that are theirs.
const (
	few = 1<<State | 1<<Direction | 1<<Translated

	states       = 1<<5 - 1
	directions   = (1<<2 - 1) << 5
	translations = (1<<4 - 1) << 7
)

// allOf are those bits of each, in the order of their places.
var allOf = [...]uint16{states, directions, translations}

// fewAt is the place of a field of few values among those; ok is false for another field.
func fewAt(f Field) (n uint8, ok bool) {
	return placeOf[f] - usual - seldom, placeOf[f] >= usual+seldom
}

// fewLists are all lists of values of a field of few values, by their bits.
var fewLists = sync.OnceValue(func() *[len(allOf)][1 << 5]list {
	var out [len(allOf)][1 << 5]list
	for n, all := range allOf {
		for set := range 1 << bits.OnesCount16(all) {
			for rest := uint(set); rest != 0; { // a run of values at a time
				lo := bits.TrailingZeros(rest)
				run := bits.TrailingZeros(^(rest >> lo))
				out[n][set].in = append(out[n][set].in, interval{small(uint64(lo)), small(uint64(lo + run - 1))})
				rest &^= (1<<run - 1) << lo
			}
		}
	}
	return &out
})

// none reports whether some field of few values has none left.
func none(not uint16) bool {
	return not&states == states || not&directions == directions || not&translations == translations
}

// at returns the values of a field; nil where it is not restricted.
func (b *box) at(f Field) *list {
	n := placeOf[f]
	if n < usual {
		return b.v[n]
	}
	return b.behind(n - usual)
}

// behind returns the values of a field that is not in v, by its place behind.
func (b *box) behind(n uint8) *list {
	if n < seldom {
		if b.more == nil {
			return nil
		}
		return b.more[n]
	}
	n -= seldom
	if all := allOf[n]; b.not&all != 0 {
		return &fewLists()[n][all&^b.not>>bits.TrailingZeros16(all)]
	}
	return nil
}

// share restricts a field to values that another box has.
func (b *box) share(f Field, l *list) {
	b.has |= 1 << f
	switch n := placeOf[f]; {
	case n < usual:
		b.v[n] = l
	case n < usual+seldom:
		var more [seldom]*list
		if b.more != nil {
			more = *b.more
		}
		more[n-usual] = l
		b.more = &more
	default:
		b.leave(f, bitsOf(f, l.in))
	}
}

// leave restricts a field of few values to some, given as bits in not; it returns false where these are none.
func (b *box) leave(f Field, left uint16) bool {
	n, _ := fewAt(f)
	b.not, b.has = b.not&^allOf[n]|allOf[n]&^left, b.has|1<<f
	if left == allOf[n] {
		b.has &^= 1 << f
	}
	return left != 0
}

// bitsOf are the bits in not of values of a field of few values.
func bitsOf(f Field, in []interval) (out uint16) {
	n, _ := fewAt(f)
	last := uint64(bits.OnesCount16(allOf[n]) - 1)
	for _, iv := range in {
		if iv.lo.hi != 0 {
			break
		}
		end := last
		if iv.hi.hi == 0 {
			end = min(last, iv.hi.lo)
		}
		for v := iv.lo.lo; v <= end; v++ {
			out |= 1 << v
		}
	}
	return out << bits.TrailingZeros16(allOf[n])
}

// set restricts a field to values that another box has, or takes its restriction away where they are nil.
func (b *box) set(f Field, l *list) {
	switch {
	case l == b.at(f):
	case l == nil:
		b.free(f)
	default:
		b.share(f, l)
	}
}

// free takes the restriction of a field away.
func (b *box) free(f Field) {
	b.has &^= 1 << f
	switch n := placeOf[f]; {
	case n < usual:
		b.v[n] = nil
	case n >= usual+seldom:
		b.not &^= allOf[n-usual-seldom]
	case b.more != nil && b.more[n-usual] != nil:
		for k, l := range b.more {
			if l != nil && k != int(n-usual) { // it is not the only one
				more := *b.more
				more[n-usual] = nil
				b.more = &more
				return
			}
		}
		b.more = nil
	}
}

// each goes through some fields, given as bits.
func each(has uint16) iter.Seq[Field] {
	return func(yield func(Field) bool) {
		for ; has != 0; has &= has - 1 {
			if !yield(Field(bits.TrailingZeros16(has))) {
				return
			}
		}
	}
}

// get returns the values of a field; they must not be changed.
func (b *box) get(f Field) []interval {
	if l := b.at(f); l != nil {
		return l.in
	}
	return whole(f, b.fam)
}

// whole is all values of a field in packets of a family; they must not be changed.
func whole(f Field, fam Family) []interval {
	if fam == IPv6 {
		return wholeOf[1][f][:]
	}
	return wholeOf[0][f][:]
}

// wholeOf is all values of a field, of IPv4 and of IPv6 packets.
var wholeOf = func() (out [2][fields][1]interval) {
	for n, fam := range []Family{IPv4, IPv6} {
		for f := range fields {
			out[n][f] = [1]interval{{number{}, topOf(f, fam)}}
		}
	}
	return out
}()

// in returns the values of a field; nil where it is not restricted.
func (b *box) in(f Field) []interval {
	if l := b.at(f); l != nil {
		return l.in
	}
	return nil
}

// put restricts a field to values that are already within its range; it returns false where nothing is left.
func (b *box) put(f Field, in []interval) bool {
	if len(in) == 0 {
		return false
	}
	if _, is := fewAt(f); is {
		return b.leave(f, bitsOf(f, in))
	}
	if len(in) == 1 && in[0].lo == (number{}) && !in[0].hi.less(topOf(f, b.fam)) {
		b.free(f)
		return true
	}
	b.share(f, listOf(in))
	return true
}

func (b *box) meet(c *box) (box, bool) {
	if !b.meets(c) { // most pairs do not meet: find out before anything is made
		return box{}, false
	}
	out := *b
	out.not |= c.not
	out.has |= c.has & few
	for f := range each(c.has &^ few) {
		mine, other := b.at(f), c.at(f)
		switch {
		case mine == nil:
			out.share(f, other)
		case mine != other:
			if both := common(mine, other); both != mine {
				out.share(f, both)
			}
		}
	}
	return out, true
}

// common returns the values that two lists share; they have some.
func common(a, b *list) *list {
	if len(a.in) == 1 && len(b.in) == 1 { // the commonest case: nothing is made where one lies within the other
		switch x, y := &a.in[0], &b.in[0]; {
		case !x.lo.less(y.lo) && !y.hi.less(x.hi):
			return a
		case !y.lo.less(x.lo) && !x.hi.less(y.hi):
			return b
		}
	}
	switch in := meet(a.in, b.in); {
	case slices.Equal(in, a.in):
		return a
	case slices.Equal(in, b.in):
		return b
	default:
		return listOf(in)
	}
}

func (b *box) meets(c *box) bool { return b.meetsIn(c, b.has&c.has) }

// meetsIn reports whether boxes meet as far as some fields tell, which both of them have, and those of few values.
func (b *box) meetsIn(c *box, has uint16) bool {
	if b.fam != c.fam || none(b.not|c.not) {
		return false
	}
	for has &^= few; has != 0; has &= has - 1 { // asked very often: no sequence
		f := Field(bits.TrailingZeros16(has))
		if mine, other := b.at(f), c.at(f); mine != other && !meets(mine.in, other.in) {
			return false
		}
	}
	return true
}

// holds reports whether c lies within b.
func (b *box) holds(c *box) bool {
	if b.fam != c.fam || b.has&^c.has != 0 || b.not&^c.not != 0 {
		return false
	}
	for has := b.has &^ few; has != 0; has &= has - 1 {
		f := Field(bits.TrailingZeros16(has))
		if mine, other := b.at(f), c.at(f); mine != other && !within(other.in, mine.in) {
			return false
		}
	}
	return true
}

// corner is the packet of the box with the least values of all fields; or, where high, the greatest.
func (b *box) corner(high bool) (p [fields]number) {
	for f := range fields {
		in := b.get(f)
		if p[f] = in[0].lo; high {
			p[f] = in[len(in)-1].hi
		}
	}
	return p
}

// hasPoint reports whether a packet of the box's family is in it, as far as some fields tell, which the box has.
func (b *box) hasPoint(p *[fields]number, has uint16) bool {
	for ; has != 0; has &= has - 1 {
		if f := Field(bits.TrailingZeros16(has)); !among(b.at(f).in, p[f]) {
			return false
		}
	}
	return true
}

// cut appends b without c to out, in boxes that do not overlap. b and c must meet.
func (b *box) cut(c *box, out []box) []box {
	rest := *b
	for f := range each(c.has) {
		mine, other := rest.at(f), c.at(f)
		if mine == other {
			continue
		}
		if off := without(rest.get(f), other.in); len(off) > 0 {
			piece := rest
			piece.put(f, off)
			out = append(out, piece)
			if mine == nil {
				rest.share(f, other)
			} else {
				rest.share(f, common(mine, other))
			}
		}
	}
	return out
}

// narrow restricts a field to a set of values that is not empty; it returns false where nothing is left.
func (b *box) narrow(f Field, v Values) bool {
	if _, is := fewAt(f); is {
		return b.leave(f, bitsOf(f, v.in())&^b.not)
	}
	l := b.at(f)
	switch {
	case l != nil && within(l.in, v.in()): // it asks for no more
		return true
	case (l == nil || within(v.in(), l.in)) && v.part(topOf(f, b.fam)):
		b.share(f, v.list)
		return true
	}
	return b.put(f, meet(b.get(f), v.in()))
}
