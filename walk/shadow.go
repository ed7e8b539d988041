package walk

import (
	"slices"
	"sync"

	"toril/internal/spread"
	"toril/model"
	"toril/packet"
)

// Shadow is a rule that changes nothing, and why.
type Shadow struct {
	Rule *model.Rule
	Kind ShadowKind
	By   []*model.Rule // the rules that hide it, or that do the same afterwards
	Same bool          // those that hide it do the same as it would
	Err  error         // it was not decided: packet.ErrLimit
}

// ShadowKind is why a rule changes nothing.
type ShadowKind uint8

// The kinds.
const (
	Hidden     ShadowKind = iota // earlier rules of the chain take every packet of it
	Impossible                   // no packet meets its conditions
	Redundant                    // what comes after it does the same with its packets
)

// Shadows finds the rules of a chain that change nothing, exactly: a rule whose packets earlier rules of the same chain take
// to the last, one that no packet can meet, and one that could go as what follows does the same. Conditions outside the
// model make a rule hide nothing; a chain that sets marks does not judge rules that ask for them.
func Shadows(c *model.Chain) []*Shadow {
	rules := c.Rules
	sets := make([]packet.Set, len(rules))
	ends := make([]bool, len(rules)) // matches its packets for good
	marks := false
	for i, r := range rules {
		sets[i] = r.When
		ends[i] = r.Certain() && r.Verb.Final()
		marks = marks || r.SetMark != nil
	}
	l := list{c, packet.NewIndex(sets), sets, ends, marks}
	found, order := make([]*Shadow, len(rules)), l.index.Order()
	spread.InShares(len(rules), 256, func(at int) {
		i := order[at]
		room := rooms.Get().(*packet.Room)
		defer rooms.Put(room)
		if err := packet.Guard(func() { found[i] = l.shadow(i, room) }); err != nil {
			found[i] = &Shadow{Rule: rules[i], Kind: Hidden, Err: err}
		}
	})
	return slices.DeleteFunc(found, func(s *Shadow) bool { return s == nil })
}

// rooms are for what is around a rule.
var rooms = sync.Pool{New: func() any { return new(packet.Room) }}

// list is a chain being looked at.
type list struct {
	chain *model.Chain
	index *packet.Index
	sets  []packet.Set
	ends  []bool // the rule matches its packets for good
	marks bool   // some rule sets a mark
}

// shadow says why rule i changes nothing; nil where it does.
func (l *list) shadow(i int, room *packet.Room) *Shadow {
	rules := l.chain.Rules
	r := rules[i]
	if r.Doubts.Unread() { // what it is for, or does, is not known
		return nil
	}
	if r.When.Empty() {
		if r.Certain() && lastOfLine(rules, i) {
			return &Shadow{Rule: r, Kind: Impossible}
		}
		return nil
	}
	if l.marks && asksForMark(r) {
		return nil
	}
	before := func(j int) bool { return j < i && l.ends[j] }
	if next := l.index.Next(i, near); next >= 0 { // then what else meets the rule matters only where the rules before it may hide it
		if may, err := l.index.Corners(i, before, room); err == nil && !may {
			return l.after(i, next)
		}
	}
	around, err := l.index.Around(i, room)
	if err != nil {
		return &Shadow{Rule: r, Kind: Hidden, Err: err}
	}
	by, hidden, err := around.Covered(before)
	if err != nil {
		return &Shadow{Rule: r, Kind: Hidden, Err: err}
	}
	if hidden {
		s := &Shadow{Rule: r, Kind: Hidden, Same: true}
		for _, j := range by {
			s.By = append(s.By, rules[j])
			s.Same = s.Same && alike(rules[j], r)
		}
		return s
	}
	return l.after(i, around.First(func(j int) bool { return j > i }))
}

// near is how many rules behind a rule are asked first whether they meet it.
const near = 4

// after says whether what comes after rule i makes it redundant: first of all the next rule that meets it, if there is one.
func (l *list) after(i, next int) *Shadow {
	if !l.redundant(i, next) {
		return nil
	}
	s := &Shadow{Rule: l.chain.Rules[i], Kind: Redundant}
	if next >= 0 {
		s.By = append(s.By, l.chain.Rules[next])
	}
	return s
}

// lastOfLine reports whether a rule is the only one that its line became: a verdict map becomes several, some of them empty.
func lastOfLine(rules []*model.Rule, i int) bool {
	return (i == 0 || rules[i-1].At != rules[i].At) && (i+1 == len(rules) || rules[i+1].At != rules[i].At)
}

func asksForMark(r *model.Rule) bool { return !r.When.Equal(r.When.Free(packet.Mark, packet.ConnMark)) }

// alike reports whether rules do the same.
func alike(a, b *model.Rule) bool {
	return a.Verb == b.Verb && a.Target == b.Target && a.Writes().Text == b.Writes().Text
}

// redundant reports whether an accept or drop could go: the first later rule that meets its packets takes all of them and
// does the same, or none meets them and the chain's policy does the same.
func (l *list) redundant(i, next int) bool {
	r := l.chain.Rules[i]
	if r.Verb != model.Accept && r.Verb != model.Drop || !r.Certain() || r.Log || r.SetMark != nil {
		return false
	}
	if next < 0 {
		return l.chain.Hook != model.NoHook && l.chain.Doubts.Certain() && l.chain.Policy.Value == r.Verb
	}
	o := l.chain.Rules[next]
	return l.ends[next] && o.Verb == r.Verb && l.sets[next].Contains(l.sets[i]) && !o.Log
}
