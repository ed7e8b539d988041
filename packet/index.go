package packet

import (
	"math"
	"slices"
	"sort"
)

// Index finds, among many sets, those that meet a given one, and tells whether some of them together cover it. It is made
// for long lists of rules: its work grows with what meets, not with the square of the list.
type Index struct {
	sets [][]int // the places of a set's boxes in boxes
	all  []indexed
	axes map[Family][]*axis
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
	field Field
	ends  []end
	top   []number // a complete binary tree over ends: the highest end below each node
	size  int
}

type end struct {
	lo, hi number
	place  int
}

// NewIndex makes the index of some sets.
func NewIndex(sets []Set) *Index {
	x := &Index{axes: map[Family][]*axis{}, sets: make([][]int, len(sets)), all: make([]indexed, 0, len(sets))}
	by := map[Family][]int{}
	for i := range sets {
		for k := range sets[i].boxes {
			b := &sets[i].boxes[k]
			x.sets[i] = append(x.sets[i], len(x.all))
			by[b.fam] = append(by[b.fam], len(x.all))
			x.all = append(x.all, indexed{b, i})
		}
	}
	for fam, places := range by {
		for _, f := range lookedUp {
			x.axes[fam] = append(x.axes[fam], x.axis(f, places))
		}
		slices.SortStableFunc(x.axes[fam], func(a, b *axis) int { return b.distinct() - a.distinct() }) // the most telling field first
	}
	return x
}

func hull(b *box, f Field) (lo, hi number) {
	if in := b.v[f]; in != nil {
		return in[0].lo, in[len(in)-1].hi
	}
	return number{}, topOf(f, b.fam)
}

func (x *Index) axis(f Field, places []int) *axis {
	a := &axis{field: f, ends: make([]end, len(places)), size: 1}
	sorted := true
	for i, p := range places {
		lo, hi := hull(x.all[p].box, f)
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
	return a
}

// distinct is in how many values the low ends differ.
func (a *axis) distinct() int {
	n := 0
	for i := range a.ends {
		if i == 0 || a.ends[i].lo != a.ends[i-1].lo {
			n++
		}
	}
	return n
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

// candidates returns the boxes of other sets that meet a box and whose set is wanted. It looks by the field that promises
// the fewest, trying all with a small allowance first.
func (x *Index) candidates(at int, wanted func(set int) bool) ([]int, error) {
	b := x.all[at].box
	for allowance := 64; ; allowance *= 4 {
		for _, a := range x.axes[b.fam] {
			var out []int
			tried := 0
			lo, hi := hull(b, a.field)
			done := a.meeting(lo, hi, func(p int) bool {
				tried++
				if o := x.all[p]; o.set != x.all[at].set && wanted(o.set) && o.box.meets(b) {
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

// Meets returns the least wanted set that meets set i, in the order of the list; -1 for none.
func (x *Index) Meets(i int, wanted func(set int) bool) (int, error) {
	least := -1
	for _, at := range x.sets[i] {
		cs, err := x.candidates(at, wanted)
		if err != nil {
			return -1, err
		}
		for _, c := range cs {
			if s := x.all[c].set; least < 0 || s < least {
				least = s
			}
		}
	}
	return least, nil
}

// Covered reports whether set i lies within the union of the wanted sets, and names those that it takes. The answer is
// exact; where it would take too much work the error is ErrLimit. An empty set is covered by nothing.
func (x *Index) Covered(i int, wanted func(set int) bool) (by []int, ok bool, err error) {
	if len(x.sets[i]) == 0 {
		return nil, false, nil
	}
	for _, at := range x.sets[i] {
		mine, ok, err := x.coverOne(at, wanted)
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

func (x *Index) coverOne(at int, wanted func(int) bool) ([]int, bool, error) {
	cs, err := x.candidates(at, wanted)
	if err != nil || len(cs) == 0 {
		return nil, false, err
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
		f *= measure(meet(have, o.v[i])) / measure(have)
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
