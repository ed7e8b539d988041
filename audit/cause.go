package audit

import (
	"cmp"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"
	"unique"

	"toril/internal/spread"
	"toril/packet"
)

// Part says with whose findings those of a check may have one cause: a person who acts on the one has acted on the other.
type Part struct {
	Of string                  // the name of a check; of the check itself where several of its own findings may have one cause
	By func(*Finding) []string // both findings have something of it in common; none is in common with nothing
}

// key joins words that are all needed; none where one is missing.
func key(words ...string) []string {
	if slices.Contains(words, "") {
		return nil
	}
	return []string{strings.Join(words, "\x00")}
}

// SameTunnel is for what both ends of a tunnel say to each other: the same fault on either end is one.
func SameTunnel(f *Finding) []string { return key(f.Tunnel) }

// SameIKE is SameTunnel for what is about the IKE SA, and about no child.
func SameIKE(f *Finding) []string {
	if f.Child != "" {
		return nil
	}
	return key(f.Tunnel)
}

// SameChildren is SameTunnel for children that mean each other, whatever they are called on either end.
func SameChildren(f *Finding) []string { return key(f.Tunnel, f.children()) }

// SameWeak is for a weak algorithm that both ends of a tunnel, or both of two children that mean each other, offer.
func SameWeak(f *Finding) []string {
	var out []string
	if f.traits != nil {
		for name := range strings.SplitSeq(f.traits.weak, "\n") {
			out = append(out, key(f.Tunnel, f.children()+"/", name)...)
		}
	}
	return out
}

// SameChild is for one child of one connection.
func SameChild(f *Finding) []string { return key(f.Gateway, f.Connection, f.Child) }

// SameEnd is for one connection of one gateway.
func SameEnd(f *Finding) []string { return key(f.Gateway, f.Connection) }

// SameLine is for what one statement does.
func SameLine(f *Finding) []string {
	at := f.At.Pos
	if f.traits != nil && f.traits.culprit != nil {
		at = *f.traits.culprit
	}
	if at.IsZero() {
		return nil
	}
	return key(at.File, strconv.Itoa(at.Line), strconv.Itoa(at.Col))
}

// SameSeries is for what a check says of many like things in one place: the rules of a chain.
func SameSeries(f *Finding) []string { return key(f.Gateway, f.Check, f.Series) }

// SameExcess is for what concerns only packets of networks that one end of a tunnel has and the other has not. A finding that is of no
// packets is about those networks as a whole.
func SameExcess(f *Finding) []string {
	if (f.traits == nil || !f.traits.excess) && f.Check != "ends/not-mirrored" {
		return nil
	}
	return SameChildren(f)
}

// children are the children that mean each other that a finding is about; "" for none.
func (f *Finding) children() string {
	if f.traits == nil {
		return ""
	}
	return f.traits.children
}

// Cause is one cause with all that was found of it.
type Cause struct {
	*Finding            // the one that says it best
	Parts    []*Finding // the others, the worst first
}

// Causes groups the findings that stand, in their order: each cause with what is a part of it. Accepted ones are left out.
func (r *Result) Causes() []Cause {
	index, n := map[string]int{}, 0 // of those that have parts, which are few
	for _, f := range r.Findings {
		if f.Accepted == nil {
			if f.PartOf != "" {
				index[f.PartOf] = -1
			} else {
				n++
			}
		}
	}
	out := make([]Cause, 0, n)
	for _, f := range r.Findings {
		if f.PartOf == "" && f.Accepted == nil {
			if _, has := index[f.ID]; has {
				index[f.ID] = len(out)
			}
			out = append(out, Cause{Finding: f})
		}
	}
	for _, f := range r.Findings {
		if at, ok := index[f.PartOf]; ok && at >= 0 && f.PartOf != "" && f.Accepted == nil {
			out[at].Parts = append(out[at].Parts, f)
		}
	}
	return out
}

// fold finds out which findings have one cause, and makes of each such group one the whole and the others parts of it: the worst is the
// whole; of several, the one whose check is a part of no other's; else the first. Accepted findings are no part of anything.
func (r *Result) fold(checks []*Check) {
	of := map[bool]map[string][]int{true: {}, false: {}} // those that are possible by themselves: they hide nothing that is certain
	for i, f := range r.Findings {
		if f.Accepted == nil {
			kind := of[f.Possible()]
			kind[f.Check] = append(kind[f.Check], i)
		}
	}
	one := make(groups, len(r.Findings))
	for i := range one {
		one[i] = i
	}
	inner := map[string]int{} // checks that are a part of another, symptoms the most
	for _, c := range checks {
		for _, part := range c.PartOf {
			if part.Of != c.Name {
				inner[c.Name] = 1
			}
			for _, kind := range []map[string][]int{of[false], of[true]} {
				if len(kind[c.Name]) > 0 && len(kind[part.Of]) > 0 {
					r.match(part.By, kind[part.Of], kind[c.Name], one)
				}
			}
		}
	}
	for _, c := range checks {
		if c.Symptom {
			inner[c.Name] = 2
		}
	}
	better := func(a, b *Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(inner[a.Check], inner[b.Check]))
	}
	whole := make([]int, len(r.Findings)) // by root: the number of the whole, from 1
	for i, f := range r.Findings {
		root := one.root(i)
		if at := whole[root] - 1; at < 0 || better(f, r.Findings[at]) < 0 {
			whole[root] = i + 1
		}
	}
	for i, f := range r.Findings {
		if at := whole[one.root(i)] - 1; at != i {
			f.PartOf = r.Findings[at].ID
		}
	}
	for _, f := range r.Findings {
		f.traits = nil
	}
}

// match joins every finding of some, by their numbers, with the first of others that has something in common with it. What they have in
// common is kept by its digest: of many findings the words themselves would take much room.
func (r *Result) match(by func(*Finding) []string, wholes, parts []int, into groups) {
	type digest [2]uint64
	seeds := [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
	of := func(numbers []int) [][]digest {
		out := make([][]digest, len(numbers))
		spread.InShares(len(numbers), share, func(i int) {
			for _, words := range by(r.Findings[numbers[i]]) {
				out[i] = append(out[i], digest{maphash.String(seeds[0], words), maphash.String(seeds[1], words)})
			}
		})
		return out
	}
	first, has := map[digest]int{}, of(wholes)
	for n, ds := range has {
		for _, d := range ds {
			if first[d] == 0 {
				first[d] = wholes[n] + 1
			}
		}
	}
	if !slices.Equal(parts, wholes) { // else what they have is known
		has = of(parts)
	}
	for n, ds := range has {
		for _, d := range ds {
			if at := first[d]; at > 0 {
				into.join(at-1, parts[n])
			}
		}
	}
}

// groups are disjoint sets of numbers: every number's parent.
type groups []int

func (g groups) root(i int) int {
	for g[i] != i {
		g[i] = g[g[i]]
		i = g[i]
	}
	return i
}

func (g groups) join(a, b int) {
	if a, b = g.root(a), g.root(b); a != b {
		g[max(a, b)] = min(a, b)
	}
}

// Series is many like findings of a cause as one: how many rules, on which lines, and the most telling of them.
type Series struct {
	Check   string
	Count   int
	Ranges  string     // of lines, file by file: "12-40, 55"
	Telling []*Finding // at most ten: the first of each of the longest runs of lines
}

// Told are the parts of a cause that are told one by one, and what the others come to: the series, one a check.
func (c Cause) Told() (parts []*Finding, series []Series) {
	told := map[string]bool{} // by check: as a series
	for _, f := range append([]*Finding{c.Finding}, c.Parts...) {
		if _, known := told[f.Check]; !known {
			s, ok := c.SeriesOf(f.Check)
			if told[f.Check] = ok; ok {
				series = append(series, s)
			}
		}
		if f != c.Finding && !told[f.Check] {
			parts = append(parts, f)
		}
	}
	return parts, series
}

// SeriesOf is what a cause's findings of one check come to; ok is false where they are few.
func (c Cause) SeriesOf(check string) (s Series, ok bool) {
	var all []*Finding
	for _, f := range append([]*Finding{c.Finding}, c.Parts...) {
		if f.Check == check && f.Series != "" {
			all = append(all, f)
			s.Count += 1 + len(f.Others)
		}
	}
	const few, most = 3, 10
	if s.Count < few {
		return Series{}, false
	}
	s.Check = check
	slices.SortStableFunc(all, func(a, b *Finding) int { return a.At.Pos.Compare(b.At.Pos) })
	type telling struct {
		*Finding // the first that stands there
		n        int
	}
	var runs []telling
	var ranges []string
	for len(all) > 0 {
		n, places := 0, Places(nil) // of one file
		for ; n < len(all) && all[n].At.File == all[0].At.File; n++ {
			places = append(places, all[n].Places()...)
		}
		slices.SortFunc(places, Place.compare)
		ranges = append(ranges, places.String())
		own := all[:n]
		for r := range places.stretches() {
			if len(own) > 0 && PlaceOf(own[0].At.Pos) == r.first { // else it is of those that one stands for
				runs = append(runs, telling{own[0], r.n})
			}
			for len(own) > 0 && PlaceOf(own[0].At.Pos).compare(r.last) <= 0 {
				own = own[1:]
			}
		}
		all = all[n:]
	}
	s.Ranges = strings.Join(ranges, ", ")
	slices.SortStableFunc(runs, func(a, b telling) int { return cmp.Compare(b.n, a.n) })
	for _, r := range runs[:min(most, len(runs))] {
		s.Telling = append(s.Telling, r.Finding)
	}
	return s, true
}

// place notes of which children and of which cause a finding is, while its tunnel is open.
func (p *Pass) place(f *Finding) {
	t := p.work.tunnel
	var packets *packet.Set
	if f.traits != nil {
		packets, f.traits.packets = f.traits.packets, nil
	}
	if t == nil || f.Child == "" {
		return
	}
	for _, c := range t.Children() {
		names := c.Names()
		for i, end := range t.Ends {
			if names[i] != f.Child || end.Gateway.Name != f.Gateway {
				continue
			}
			f.trait().children = unique.Make(names[0] + "\x00" + names[1]).Value()
			switch {
			case packets == nil || packets.Empty():
			case c.A == nil || c.B == nil: // all of it is at one end only
				f.traits.excess = len(t.Ends) == 2
			default:
				a, b := t.Ends[0], t.Ends[1]
				_ = packet.Guard(func() { // what is too complex is none
					mine, theirs := c.A.Domain(t.Own(a), t.Peer(a)), c.B.Domain(t.Own(b), t.Peer(b)).Mirror()
					both := mine.And(theirs)
					f.traits.excess = !packets.Overlaps(both.Or(both.Mirror()))
				})
			}
			return
		}
	}
}
