package walk

import (
	"toril/gateway"
	"toril/packet"
)

// Shadow is a rule that changes nothing, and why.
type Shadow struct {
	Rule *gateway.Rule
	Kind ShadowKind
	By   []*gateway.Rule // the rules that hide it, or that do the same afterwards
	Same bool            // those that hide it do the same as it would
	Err  error           // it was not decided: packet.ErrLimit
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
// to the last, one that no packet can meet, and one that could go as what follows does the same. Conditions outside of the
// model make a rule hide nothing; a chain that sets marks does not judge rules that ask for them.
func Shadows(c *gateway.Chain) []Shadow {
	rules := c.Rules
	sets := make([]packet.Set, len(rules))
	ends := make([]bool, len(rules)) // takes its packets for good
	marks := false
	for i, r := range rules {
		sets[i] = r.When
		ends[i] = r.Certain() && r.Verb.Final()
		marks = marks || r.SetMark != nil
	}
	x := packet.NewIndex(sets)
	var out []Shadow
	for i, r := range rules {
		if r.When.Empty() {
			if r.Certain() && !r.Unread && lastOfLine(rules, i) {
				out = append(out, Shadow{Rule: r, Kind: Impossible})
			}
			continue
		}
		if marks && asksForMark(r) {
			continue
		}
		by, hidden, err := x.Covered(i, func(j int) bool { return j < i && ends[j] })
		switch {
		case err != nil:
			out = append(out, Shadow{Rule: r, Kind: Hidden, Err: err})
		case hidden:
			s := Shadow{Rule: r, Kind: Hidden, Same: true}
			for _, j := range by {
				s.By = append(s.By, rules[j])
				s.Same = s.Same && does(rules[j]) == does(r)
			}
			out = append(out, s)
		case redundant(c, x, sets, ends, i):
			s := Shadow{Rule: r, Kind: Redundant}
			if j, err := x.Meets(i, func(j int) bool { return j > i }); err == nil && j >= 0 {
				s.By = append(s.By, rules[j])
			}
			out = append(out, s)
		}
	}
	return out
}

// lastOfLine reports whether a rule is the only one that its line became: a verdict map becomes several, some of them empty.
func lastOfLine(rules []*gateway.Rule, i int) bool {
	return (i == 0 || rules[i-1].At != rules[i].At) && (i+1 == len(rules) || rules[i+1].At != rules[i].At)
}

func asksForMark(r *gateway.Rule) bool { return !r.When.Equal(r.When.Free(packet.Mark)) }

// does is what a rule does, for comparing.
func does(r *gateway.Rule) string { return r.Verb.String() + " " + r.Target + " " + r.To.Text }

// redundant reports whether an accept or drop could go: the first later rule that meets its packets takes all of them and
// does the same, or none meets them and the chain's policy does the same.
func redundant(c *gateway.Chain, x *packet.Index, sets []packet.Set, ends []bool, i int) bool {
	r := c.Rules[i]
	if r.Verb != gateway.Accept && r.Verb != gateway.Drop || !r.Certain() || r.Log || r.SetMark != nil {
		return false
	}
	j, err := x.Meets(i, func(j int) bool { return j > i })
	if err != nil {
		return false
	}
	if j < 0 {
		return c.Hook != gateway.NoHook && !c.Unsure && c.Policy.Value == r.Verb
	}
	o := c.Rules[j]
	return ends[j] && o.Verb == r.Verb && sets[j].Contains(sets[i]) && !o.Log
}
