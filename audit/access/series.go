package access

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/walk"
)

// most is how many rules of a chain are each a finding of its own, for one fault: more are not read one by one.
const most = 100

// shadows are those of a chain's that a function picks.
func shadows(all []*walk.Shadow, pick func(*walk.Shadow) bool) []*walk.Shadow {
	var out []*walk.Shadow
	for _, s := range all {
		if pick(s) {
			out = append(out, s)
		}
	}
	return out
}

// series reports a fault of some rules of a chain. begin makes what is of one rule in its finding, and message is what is wrong, with %s
// for the rule. The rules beyond the most are one finding a file, with the places of all.
func series(p *audit.Pass, g *model.Gateway, c *model.Chain, message string, rules []*walk.Shadow,
	begin func(*walk.Shadow) audit.Finding) {
	one := func(s *walk.Shadow) audit.Finding {
		f := begin(s)
		f.Gateway, f.At.Pos, f.Message = g.Name, s.Rule.At, fmt.Sprintf(message, "this rule")
		f.Rests(g.Doubts(model.AboutFilter), c.Doubts)
		return f
	}
	rules = slices.CompactFunc(rules, func(a, b *walk.Shadow) bool { return a.Rule.At == b.Rule.At }) // one line may become several
	own := min(most, len(rules))
	for _, s := range rules[:own] {
		p.Report(one(s))
	}
	rest := rules[own:]
	inFile := func(a, b *walk.Shadow) int { return a.Rule.At.Compare(b.Rule.At) }
	if !slices.IsSortedFunc(rest, inFile) {
		slices.SortStableFunc(rest, inFile)
	}
	for len(rest) > 0 {
		f := one(rest[0])
		f.Others = slices.Grow(f.Others, len(rest)-1)
		n, alike := 1, true // for the same reason
		for ; n < len(rest) && rest[n].Rule.At.File == f.At.File; n++ {
			f.Others = append(f.Others, audit.PlaceOf(rest[n].Rule.At))
			alike = alike && slices.Equal(rest[n].By, rest[0].By)
		}
		if n > 1 {
			f.Message, f.About = fmt.Sprintf(message, fmt.Sprintf("%d more rules of chain %s", n, c.Name)), c.ID()+"\x00"+message
			f.Example = ""
			if !alike {
				f.Also = nil
				f.Blame(f.At.Pos)
			}
		}
		p.Report(f)
		rest = rest[n:]
	}
}
