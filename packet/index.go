package packet

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"sort"
	"sync"

	"toril/internal/spread"
)

// Index finds, among many sets, those that meet a given one, and tells whether some of them together cover it. It is made
// for long lists of rules: its work grows with what meets, not with the square of the list.
type Index struct {
	starts []int // where the boxes of a set begin in all; one more than there are sets
	all    []indexed
	axes   map[Family][]*axis
}

// Around are the sets of an index that meet one of them.
type Around struct {
	x     *Index
	set   int
	boxes [][]int32 // for every box of the set, the boxes of others that meet it
	room  *Room
}

// Room is where an Around is: it holds until the next one is asked for with the same room. The zero Room is ready.
type Room struct {
	places []int32
	boxes  [][]int32
	wanted []int32
}

type indexed struct {
	box   *box
	set   int
	hull  [len(lookedUp)]span
	fam   Family
	has   uint16 // a bit for each field that the box asks for
	exact uint16 // and for each of which the hull says all
}

// The fields by which boxes are looked up; the others are compared one by one.
var lookedUp = [...]Field{Dst, Src, Dport, Proto}

// span is from where to where the values of a field are, both included. Of IPv6 addresses it is their first half: what lies apart there
// lies apart.
type span struct{ lo, hi uint64 }

func (s span) meets(t span) bool { return s.lo <= t.hi && t.lo <= s.hi }

// spanOf returns the span of a field of a box.
func spanOf(b *box, f Field) span {
	in := b.in(f)
	if in == nil {
		return span{0, math.MaxUint64}
	}
	lo, hi := in[0].lo, in[len(in)-1].hi
	if b.fam == IPv6 && (f == Src || f == Dst) {
		return span{lo.hi, hi.hi}
	}
	return span{lo.lo, hi.lo}
}

// spansAt are those of a packet.
func spansAt(fam Family, p *[fields]number) (out [len(lookedUp)]span) {
	for n, f := range lookedUp {
		v := p[f].lo
		if fam == IPv6 && (f == Src || f == Dst) {
			v = p[f].hi
		}
		out[n] = span{v, v}
	}
	return out
}

// takes reports whether a packet of the box's family, whose spans are at, is in it.
func (o *indexed) takes(p *[fields]number, at *[len(lookedUp)]span) bool {
	return allMeet(&o.hull, at) && o.box.hasPoint(p, o.has&^o.exact)
}

// meets reports whether a box, of whose fields some spans say all, meets this one; of those fields that both spans say all of it is known.
func (o *indexed) meets(b *box, exact uint16) bool {
	left := b.has & o.has &^ (exact & o.exact)
	return b.fam == o.fam && (left == 0 || o.box.meetsIn(b, left))
}

// exactIn returns a bit for each field of a box of which its span says all.
func exactIn(b *box) (out uint16) {
	for _, f := range lookedUp {
		if in := b.in(f); len(in) == 1 && (b.fam == IPv4 || f == Dport || f == Proto) {
			out |= 1 << f
		}
	}
	return out
}

// axis is all boxes of a family, sorted by the low ends of their spans of one field, of equal ones the wider first.
type axis struct {
	field  int // in lookedUp
	apart  int // in how many values their low ends differ, of a sample
	made   sync.Once
	places []int32  // the boxes
	los    []uint64 // the low ends, sorted
	ends   []end    // the boxes in that order
	held   []held   // of each of them, where spans lie within each other or apart, as networks do; else nil, and there are:
	his    []uint64 // the high ends, sorted
	top    []uint64 // a complete binary tree over ends: the highest end below each node
	size   int
}

// held says by which span another is held: the last before it, by its place in ends, or -1; and by how many in all.
type held struct{ by, depth int32 }

// end is a box with its spans beside it: most are compared with nothing else of it.
type end struct {
	hull  [len(lookedUp)]span
	place int32
}

// allMeet reports whether all spans of a box meet those of another.
func allMeet(a, b *[len(lookedUp)]span) bool {
	for n := range a {
		if !a[n].meets(b[n]) {
			return false
		}
	}
	return true
}

// NewIndex makes the index of some sets. It sorts nothing yet.
func NewIndex(sets []Set) *Index {
	x := &Index{starts: make([]int, len(sets)+1)}
	for i := range sets {
		x.starts[i+1] = x.starts[i] + len(sets[i].boxes)
	}
	x.all = make([]indexed, x.starts[len(sets)])
	spread.InShares(len(sets), 4096, func(i int) {
		for k := range sets[i].boxes {
			b, one := &sets[i].boxes[k], &x.all[x.starts[i]+k]
			one.box, one.set, one.fam, one.has, one.exact = b, i, b.fam, b.has, exactIn(b)
			for n, f := range lookedUp {
				one.hull[n] = spanOf(b, f)
			}
		}
	})
	if len(x.all) <= enough { // all of them are compared
		return x
	}
	x.axes = map[Family][]*axis{}
	for _, fam := range []Family{IPv4, IPv6} {
		var places []int32
		for at := range x.all {
			if x.all[at].fam == fam {
				places = append(places, int32(at))
			}
		}
		if len(places) == 0 {
			continue
		}
		for n := range lookedUp {
			x.axes[fam] = append(x.axes[fam], &axis{field: n, places: places})
		}
		spread.InShares(len(lookedUp), 1, func(n int) { x.axes[fam][n].apart = x.distinct(x.axes[fam][n]) })
		slices.SortStableFunc(x.axes[fam], func(a, b *axis) int { return b.apart - a.apart }) // the most telling field first
	}
	return x
}

// build sorts an axis, once it is asked.
func (a *axis) build(x *Index) {
	spans := make([]span, len(a.places))
	for i, p := range a.places {
		spans[i] = x.all[p].hull[a.field]
	}
	a.los, a.ends = make([]uint64, len(a.places)), make([]end, len(a.places))
	for i, p := range inOrder(spans, a.places) {
		a.ends[i] = end{x.all[p].hull, p}
		a.los[i] = a.ends[i].hull[a.field].lo
	}
	if a.nest(); a.held != nil {
		return
	}
	a.his, a.size = make([]uint64, len(a.ends)), 1
	for i := range a.ends {
		a.his[i] = a.ends[i].hull[a.field].hi
	}
	slices.Sort(a.his)
	for a.size < len(a.ends) {
		a.size *= 2
	}
	a.top = make([]uint64, 2*a.size)
	for i := range a.ends {
		a.top[a.size+i] = a.ends[i].hull[a.field].hi
	}
	for n := a.size - 1; n > 0; n-- {
		a.top[n] = max(a.top[2*n], a.top[2*n+1])
	}
}

// nest finds out which span holds which; nothing where two meet and neither holds the other.
func (a *axis) nest() {
	all := make([]held, len(a.ends))
	last := int32(-1) // that the next may lie in
	for i := range a.ends {
		s := a.ends[i].hull[a.field]
		for last >= 0 && a.ends[last].hull[a.field].hi < s.hi {
			if a.ends[last].hull[a.field].hi >= s.lo {
				return
			}
			last = all[last].by
		}
		if all[i].by = last; last >= 0 {
			all[i].depth = all[last].depth + 1
		}
		last = int32(i)
	}
	a.held = all
}

// inOrder returns places sorted by where their spans begin, the widest first; of small values those count as one that are about as wide.
func inOrder(spans []span, places []int32) []int32 {
	const below = 25 // bits that tell places apart; 7 are for how wide a span is
	out := make([]int32, len(places))
	small := len(places) <= 1<<below
	for i := 0; small && i < len(spans); i++ {
		small = spans[i].lo <= math.MaxUint32
	}
	if small { // what decides fits into one number, which is sorted in a third of the time
		all := make([]uint64, len(spans))
		for i, s := range spans {
			all[i] = s.lo<<32 | uint64(64-bits.Len64(s.hi-s.lo))<<below | uint64(i)
		}
		slices.Sort(all)
		for i, n := range all {
			out[i] = places[n&(1<<below-1)]
		}
		return out
	}
	order := make([]int32, len(places))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(i, j int32) int {
		s, t := spans[i], spans[j]
		return cmp.Or(cmp.Compare(s.lo, t.lo), cmp.Compare(t.hi, s.hi), cmp.Compare(i, j))
	})
	for i, n := range order {
		out[i] = places[n]
	}
	return out
}

// distinct is in how many values the low ends of an axis differ, of a sample that is the same each time; at least one.
func (x *Index) distinct(a *axis) int {
	const most = 8192
	step := 1 + len(a.places)/most
	sample := make([]uint64, 0, len(a.places)/step+1)
	for i := 0; i < len(a.places); i += step {
		sample = append(sample, x.all[a.places[i]].hull[a.field].lo)
	}
	slices.Sort(sample)
	return max(1, len(slices.Compact(sample)))
}

// begun is how many spans begin no later than a value.
func (a *axis) begun(value uint64) int {
	return sort.Search(len(a.los), func(i int) bool { return a.los[i] > value })
}

// before is how many spans begin before a value.
func (a *axis) before(value uint64) int {
	n, _ := slices.BinarySearch(a.los, value)
	return n
}

// count is how many spans meet one; of those that lie within each other, a few more at most.
func (a *axis) count(s span) int {
	if a.held != nil {
		first := a.before(s.lo)
		n := a.begun(s.hi) - first
		if first > 0 {
			n += int(a.held[first-1].depth) + 1
		}
		return n
	}
	over, _ := slices.BinarySearch(a.his, s.lo) // those before have ended
	return a.begun(s.hi) - over
}

// meeting appends every box whose spans meet some.
func (a *axis) meeting(hull *[len(lookedUp)]span, out []int32) []int32 {
	of := hull[a.field]
	first, last := a.before(of.lo), a.begun(of.hi)
	if a.held == nil {
		out = a.visit(1, 0, a.size, first, hull, out)
	} else {
		for i := int32(first) - 1; i >= 0; i = a.held[i].by {
			if e := &a.ends[i]; allMeet(&e.hull, hull) {
				out = append(out, e.place)
			}
		}
	}
	for i := first; i < last; i++ { // these begin within
		if e := &a.ends[i]; allMeet(&e.hull, hull) {
			out = append(out, e.place)
		}
	}
	return out
}

// visit appends those of a part of the boxes, up to one of them, that have not ended before.
func (a *axis) visit(node, from, to, last int, hull *[len(lookedUp)]span, out []int32) []int32 {
	for from < last && a.top[node] >= hull[a.field].lo {
		if to-from == 1 {
			if e := &a.ends[from]; allMeet(&e.hull, hull) {
				out = append(out, e.place)
			}
			return out
		}
		mid := (from + to) / 2
		out = a.visit(2*node, from, mid, last, hull, out)
		node, from = 2*node+1, mid
	}
	return out
}

// enough is up to how many boxes are compared with one before it is asked whether another field promises fewer.
const enough = 128

// cheapest returns the axis that promises the fewest boxes to be compared with spans, and how many; nil where all must be.
func (x *Index) cheapest(fam Family, hull *[len(lookedUp)]span) (best *axis, least int) {
	least = len(x.all)
	for _, a := range x.axes[fam] {
		if least <= max(enough, min(len(a.places)/a.apart, maxCandidates)) { // it promises no fewer
			break
		}
		if hull[a.field] == (span{0, math.MaxUint64}) {
			continue // it meets all of them
		}
		a.made.Do(func() { a.build(x) })
		if n := a.count(hull[a.field]); n < least {
			best, least = a, n
		}
	}
	return best, least
}

// maxCandidates is how many boxes are compared with one, before the question is given up.
const maxCandidates = 1 << 18

// near appends every box that meets one of these spans, but for those of one set.
func (x *Index) near(b *box, hull *[len(lookedUp)]span, but int, out []int32) ([]int32, error) {
	best, least := x.cheapest(b.fam, hull)
	if least > maxCandidates {
		return out, ErrLimit
	}
	exact := exactIn(b)
	meets := func(o *indexed) bool { return o.set != but && o.meets(b, exact) }
	if best == nil {
		for p := range x.all {
			if o := &x.all[p]; allMeet(&o.hull, hull) && meets(o) {
				out = append(out, int32(p))
			}
		}
		return out, nil
	}
	from := len(out)
	out = best.meeting(hull, out)
	met := out[:from]
	for _, p := range out[from:] {
		if meets(&x.all[p]) {
			met = append(met, p)
		}
	}
	return met, nil
}

// Order returns all sets, those beside each other whose boxes are: who asks about all of them finds in the processor's cache what was asked
// before.
func (x *Index) Order() []int {
	out := make([]int, 0, len(x.starts)-1)
	seen := make([]bool, len(x.starts)-1)
	take := func(set int) {
		if !seen[set] {
			seen[set] = true
			out = append(out, set)
		}
	}
	for _, fam := range []Family{IPv4, IPv6} {
		if axes := x.axes[fam]; len(axes) > 0 {
			a := axes[0]
			spread.InShares(2, 1, func(n int) { axes[n].made.Do(func() { axes[n].build(x) }) }) // or all would wait for the second, later
			for i := range a.ends {
				take(x.all[a.ends[i].place].set)
			}
		}
	}
	for set := range seen {
		take(set)
	}
	return out
}

// Around returns the sets that meet set i; the error is ErrLimit where they are too many to be looked at. It may be called from several
// goroutines, each with a room of its own.
func (x *Index) Around(i int, room *Room) (Around, error) {
	room.places, room.boxes = room.places[:0], room.boxes[:0]
	for at := x.starts[i]; at < x.starts[i+1]; at++ {
		from := len(room.places)
		out, err := x.near(x.all[at].box, &x.all[at].hull, i, room.places)
		if err != nil {
			return Around{}, err
		}
		room.places, room.boxes = out, append(room.boxes, out[from:])
	}
	return Around{x, i, room.boxes, room}, nil
}

// Next returns the first of so many sets behind set i that meets it; -1 where none does.
func (x *Index) Next(i, many int) int {
	for j := i + 1; j <= i+many && j+1 < len(x.starts); j++ {
		for at := x.starts[i]; at < x.starts[i+1]; at++ {
			b := &x.all[at]
			for p := x.starts[j]; p < x.starts[j+1]; p++ {
				if o := &x.all[p]; allMeet(&o.hull, &b.hull) && o.meets(b.box, b.exact) {
					return j
				}
			}
		}
	}
	return -1
}

// Corners reports whether two packets of each box of set i, at opposite corners, are in wanted sets. Where they are not, those do not cover
// it; else they may. The error is ErrLimit where too many sets are to be looked at.
func (x *Index) Corners(i int, wanted func(set int) bool, room *Room) (bool, error) {
	for at := x.starts[i]; at < x.starts[i+1]; at++ {
		b := x.all[at].box
		for _, high := range []bool{true, false} {
			p := b.corner(high)
			if in, err := x.holds(b.fam, &p, wanted, room); err != nil || !in {
				return false, err
			}
		}
	}
	return true, nil
}

// holds reports whether a packet is in a wanted set.
func (x *Index) holds(fam Family, p *[fields]number, wanted func(set int) bool, room *Room) (bool, error) {
	at := spansAt(fam, p)
	best, least := x.cheapest(fam, &at)
	switch {
	case least > maxCandidates:
		return false, ErrLimit
	case best == nil:
		for i := range x.all {
			if o := &x.all[i]; o.fam == fam && wanted(o.set) && o.takes(p, &at) {
				return true, nil
			}
		}
		return false, nil
	}
	room.places = best.meeting(&at, room.places[:0])
	return slices.ContainsFunc(room.places, func(c int32) bool { return wanted(x.all[c].set) && x.all[c].takes(p, &at) }), nil
}

// Meeting returns the sets of the index that meet s, whatever some fields are (none of addresses and ports), in their order. Where there
// are too many to be compared they are all returned: some may not meet it. It may be called from several goroutines.
func (x *Index) Meeting(s Set, whatever ...Field) []int {
	var room [64]int32 // mostly enough
	places := room[:0]
	var out []int
	for i := range s.boxes {
		b := s.boxes[i]
		for _, f := range whatever {
			b.free(f)
		}
		var hull [len(lookedUp)]span
		for n, f := range lookedUp {
			hull[n] = spanOf(&b, f)
		}
		var err error
		if places, err = x.near(&b, &hull, -1, places[:0]); err != nil {
			out = out[:0]
			for set := range len(x.starts) - 1 {
				out = append(out, set)
			}
			return out
		}
		if len(places) > 0 {
			out = slices.Grow(out, len(places))
		}
		for _, p := range places {
			out = append(out, x.all[p].set)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// First returns the least wanted set, in the order of the list; -1 for none.
func (a Around) First(wanted func(set int) bool) int {
	least := -1
	for _, cs := range a.boxes {
		for _, c := range cs {
			if s := a.x.all[c].set; (least < 0 || s < least) && wanted(s) {
				least = s
			}
		}
	}
	return least
}

// Covered reports whether the set lies within the union of the wanted sets, and names those that it takes. The answer is
// exact; where it would take too much work the error is ErrLimit. An empty set is covered by nothing.
func (a Around) Covered(wanted func(set int) bool) (by []int, ok bool, err error) {
	if len(a.boxes) == 0 {
		return nil, false, nil
	}
	for k := range a.boxes {
		at := a.x.starts[a.set] + k
		cs := a.room.wanted[:0]
		for _, c := range a.boxes[k] {
			if wanted(a.x.all[c].set) {
				cs = append(cs, c)
			}
		}
		a.room.wanted = cs
		mine, ok, err := a.x.coverOne(at, cs)
		if err != nil || !ok {
			return nil, false, err
		}
		for _, s := range mine {
			if !slices.Contains(by, s) {
				by = append(by, s)
			}
		}
	}
	slices.Sort(by)
	return by, true, nil
}

// coverOne asks whether some boxes cover one, and names the sets that it takes.
func (x *Index) coverOne(at int, cs []int32) ([]int, bool, error) {
	if len(cs) == 0 {
		return nil, false, nil
	}
	b := x.all[at].box
	for _, high := range []bool{true, false} { // mostly two packets of it tell that it is not
		p := b.corner(high)
		at := spansAt(b.fam, &p)
		if !slices.ContainsFunc(cs, func(c int32) bool { return x.all[c].takes(&p, &at) }) {
			return nil, false, nil
		}
	}
	slices.SortFunc(cs, func(p, q int32) int { return x.all[p].set - x.all[q].set })
	share, total := make(map[int32]float64, len(cs)), 0.0
	for _, c := range cs {
		o := x.all[c].box
		if o.holds(b) {
			return []int{x.all[c].set}, true, nil
		}
		share[c] = fraction(o, b)
		total += share[c]
	}
	if total < 1-1e-6 { // all of them together are too small
		return nil, false, nil
	}
	slices.SortStableFunc(cs, func(p, q int32) int {
		switch {
		case share[p] > share[q]:
			return -1
		case share[p] < share[q]:
			return 1
		}
		return x.all[p].set - x.all[q].set
	})
	left := []box{*b}
	var by []int
	for _, c := range cs {
		o := x.all[c].box
		var next []box
		hit := false
		for k := range left {
			if !left[k].meets(o) {
				next = append(next, left[k])
				continue
			}
			hit = true
			next = left[k].cut(o, next)
		}
		if hit && !slices.Contains(by, x.all[c].set) {
			by = append(by, x.all[c].set)
		}
		left = next
		if len(left) == 0 {
			return by, true, nil
		}
		if len(left) > MaxBoxes {
			return nil, false, ErrLimit
		}
	}
	return nil, false, nil
}

// fraction is how much of b lies in o: of each field the part, multiplied.
func fraction(o, b *box) float64 {
	f := 1.0
	for i := range each(o.has) {
		have := b.get(i)
		f *= measure(meet(have, o.in(i))) / measure(have)
	}
	return f
}

func measure(in []interval) float64 {
	sum := 0.0
	for _, iv := range in {
		d := iv.hi.minus(iv.lo)
		sum += float64(d.hi)*math.Pow(2, 64) + float64(d.lo) + 1
	}
	return sum
}
