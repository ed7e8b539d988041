// Package pfs holds the checks of perfect forward secrecy: a key exchange of its own for every child.
package pfs

import (
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model"
)

// subject returns the child's proposals; ok is false where the question does not arise.
func subject(s *audit.Subject) (set model.Setting[[]ike.Proposal], ok bool) {
	mode := s.Child.Mode.Value
	return s.Child.Proposals, mode != ike.Pass && mode != ike.Drop && len(s.Child.Proposals.Value) > 0
}

func counts(ps []ike.Proposal) (asked, optional int) {
	for _, p := range ps {
		a, o := p.PFS()
		if a {
			asked++
		}
		if o {
			optional++
		}
	}
	return asked, optional
}

// exchanges are the types of transform that exchange keys.
var exchanges = slices.DeleteFunc(slices.Clone(ike.TypesShown()), func(r ike.Registry) bool { return !r.Exchanges() })
