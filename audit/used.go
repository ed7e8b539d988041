package audit

import (
	"slices"

	"toril/ike"
	"toril/observe"
	"toril/source"
)

// Used raises a finding about offered algorithms where saved status shows one of them in use: then it counts as if it were preferred,
// whatever stands beside it.
func Used(f *Finding, s *Subject, j Judged) (used bool) {
	if len(j.Weak) == 0 || s.seen == nil {
		return false
	}
	suite, at, ok := inUse(s.Observed(), s)
	if !ok {
		return false
	}
	i := slices.IndexFunc(j.Weak, func(w Weak) bool { return slices.ContainsFunc(suite.All(), w.Same) })
	if i < 0 {
		return false
	}
	f.level = max(f.level, OfLevel(j.Worst))
	f.Message += "; " + j.Weak[i].Label() + " is in use"
	f.Also = append(f.Also, Evidence{Pos: at, Note: "the SA"})
	return true
}

// inUse is the suite of the subject's SA, as it was seen.
func inUse(e observe.End, s *Subject) (suite ike.Suite, at source.Pos, ok bool) {
	if s.Child != nil {
		c := e.Child(s.Child)
		if c == nil || c.Up() == nil {
			return suite, at, false
		}
		return c.Up().Suite, c.Up().At, true
	}
	for _, sa := range e.IKE {
		if sa.Up {
			return sa.Suite, sa.At, true
		}
	}
	return suite, at, false
}
