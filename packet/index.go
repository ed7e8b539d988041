package packet

import (
	"math"
	"slices"
	"sort"
	"sync"
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
	boxes [][]int // for every box of the set, the boxes that meet it
}

type indexed struct {
	box *box
	set int
}

// The fields by which boxes are looked up; the others are compared one by one.
var lookedUp = []Field{Dst, Src, Dport}

// axis is the hulls of one field of all boxes of a family, sorted by their low ends, with the highest end of every run of
// them as a tree.
type axis struct {
	field  Field
	made   sync.Once
	places []int // the boxes
	ends   []end
	top    []number // a complete binary tree over ends: the highest end below each node
	size   int
}

type end struct {
	lo, hi number
	place  int
}

// NewIndex makes the index of some sets.
func NewIndex(sets []Set) *Index {
	x := &Index{axes: map[Family][]*axis{}, starts: make([]int, len(sets)+1), all: make([]indexed, 0, len(sets))}
	by := map[Family][]int{IPv4: make([]int, 0, len(sets))}
	for i := range sets {
		for k := range sets[i].boxes {
			b := &sets[i].boxes[k]
			by[b.fam] = append(by[b.fam], len(x.all))
			x.all = append(x.all, indexed{b, i})
		}
		x.starts[i+1] = len(x.all)
	}
	for fam, places := range by {
		for _, f := range lookedUp {
			x.axes[fam] = append(x.axes[fam], &axis{field: f, places: places})
		}
		if len(places) < 8 {
			continue // any order will do
		}
		telling := map[*axis]int{}
		for _, a := range x.axes[fam] {
			telling[a] = x.distinct(a)
		}
		slices.SortStableFunc(x.axes[fam], func(a, b *axis) int { return telling[b] - telling[a] }) // the most telling field first
	}
	return x
}

func hull(b *box, f Field) (lo, hi number) {
	if in := b.in(f); in != nil {
		return in[0].lo, in[len(in)-1].hi
	}
	return number{}, topOf(f, b.fam)
}

// build sorts an axis, once it is asked.
func (a *axis) build(x *Index) {
	a.ends, a.size = make([]end, len(a.places)), 1
	sorted := true
	for i, p := range a.places {
		lo, hi := hull(x.all[p].box, a.field)
		a.ends[i] = end{lo, hi, p}
		sorted = sorted && (i == 0 || !lo.less(a.ends[i-1].lo))
	}
	if !sorted {
		slices.SortFunc(a.ends, func(p, q end) int {
			switch {
			case p.lo.less(q.lo):
				return -1
			case q.lo.less(p.lo):
				return 1
			}
			return p.place - q.place
		})
	}
	for a.size < len(a.ends) {
		a.size *= 2
	}
	a.top = make([]number, 2*a.size)
	for i := range a.ends {
		a.top[a.size+i] = a.ends[i].hi
	}
	for n := a.size - 1; n > 0; n-- {
		a.top[n] = higher(a.top[2*n], a.top[2*n+1])
	}
}

// distinct is in how many values the low ends of an axis differ, of a sample that is the same each time.
func (x *Index) distinct(a *axis) int {
	const most = 8192
	seen := make(map[number]bool, min(most, len(a.places)))
	for i := 0; i < len(a.places); i += 1 + len(a.places)/most {
		lo, _ := hull(x.all[a.places[i]].box, a.field)
		seen[lo] = true
	}
	return len(seen)
}

// meeting calls yes for every box whose hull meets [lo, hi], until yes returns false.
func (a *axis) meeting(lo, hi number, yes func(place int) bool) bool {
	last := sort.Search(len(a.ends), func(i int) bool { return hi.less(a.ends[i].lo) }) // those behind begin too late
	return a.visit(1, 0, a.size, last, lo, yes)
}

func (a *axis) visit(node, from, to, last int, lo number, yes func(int) bool) bool {
	if from >= last || a.top[node].less(lo) {
		return true
	}
	if to-from == 1 {
		return yes(a.ends[from].place)
	}
	mid := (from + to) / 2
	return a.visit(2*node, from, mid, last, lo, yes) && a.visit(2*node+1, mid, to, last, lo, yes)
}

// candidates returns the boxes of other sets that meet a box. It looks by the field that promises the fewest, trying one
// after the other with a small allowance first.
func (x *Index) candidates(at int) ([]int, error) {
	b := x.all[at].box
	for allowance := 64; ; allowance *= 4 {
		for _, a := range x.axes[b.fam] {
			a.made.Do(func() { a.build(x) })
			var out []int
			tried := 0
			lo, hi := hull(b, a.field)
			done := a.meeting(lo, hi, func(p int) bool {
				tried++
				if o := x.all[p]; o.set != x.all[at].set && o.box.meets(b) {
					out = append(out, p)
				}
				return tried < allowance
			})
			if done {
				return out, nil
			}
		}
		if allowance > maxCandidates {
			return nil, ErrLimit
		}
	}
}

// maxCandidates is how many boxes are compared with one, before the question is given up.
const maxCandidates = 1 << 18

// Around returns the sets that meet set i; the error is ErrLimit where they are too many to be looked at. It may be called
// from several goroutines.
func (x *Index) Around(i int) (Around, error) {
	a := Around{x: x, set: i, boxes: make([][]int, x.starts[i+1]-x.starts[i])}
	for k := range a.boxes {
		cs, err := x.candidates(x.starts[i] + k)
		if err != nil {
			return Around{}, err
		}
		a.boxes[k] = cs
	}
	return a, nil
}

// Meeting returns the sets of the index that may meet s, whatever some fields are (none of addresses and ports), in their order: all that
// do, and perhaps some that do not. It may be called from several goroutines.
func (x *Index) Meeting(s Set, whatever ...Field) []int {
	var out []int
	for i := range s.boxes {
		b := s.boxes[i]
		for _, f := range whatever {
			b.free(f)
		}
		out = x.near(&b, out)
	}
	if len(s.boxes) > 1 || !slices.IsSorted(out) {
		slices.Sort(out)
	}
	return slices.Compact(out)
}

// near appends the sets that a box may meet, looked for by the field that promises the fewest.
func (x *Index) near(b *box, out []int) []int {
	have := len(out)
	for allowance := 16; allowance < 2*len(x.all); allowance *= 8 {
		for _, a := range x.axes[b.fam] {
			if b.v[a.field] == nil { // it meets all of them
				continue
			}
			a.made.Do(func() { a.build(x) })
			tried, done := 0, true
			for _, iv := range b.in(a.field) {
				done = a.meeting(iv.lo, iv.hi, func(p int) bool {
					tried++
					if o := x.all[p]; o.box.meets(b) {
						out = append(out, o.set)
					}
					return tried < allowance
				})
				if !done {
					break
				}
			}
			if done {
				return out
			}
			out = out[:have]
		}
	}
	for _, o := range x.all {
		if o.box.meets(b) {
			out = append(out, o.set)
		}
	}
	return out
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
		var cs []int
		for _, c := range a.boxes[k] {
			if wanted(a.x.all[c].set) {
				cs = append(cs, c)
			}
		}
		mine, ok, err := a.x.coverOne(a.x.starts[a.set]+k, cs)
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
func (x *Index) coverOne(at int, cs []int) ([]int, bool, error) {
	if len(cs) == 0 {
		return nil, false, nil
	}
	b := x.all[at].box
	slices.SortFunc(cs, func(p, q int) int { return x.all[p].set - x.all[q].set })
	share, total := make(map[int]float64, len(cs)), 0.0
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
	slices.SortStableFunc(cs, func(p, q int) int {
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
	for i := range fields {
		if o.v[i] == nil {
			continue
		}
		have := b.get(i)
		f *= measure(meet(have, o.v[i].in)) / measure(have)
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
