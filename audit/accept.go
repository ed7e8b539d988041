package audit

import (
	"slices"
	"strings"

	"toril/estate"
	"toril/pair"
)

// accept finds out which exception accepts which finding, and asks the checks of exceptions. The first that fits accepts; one that is over
// accepts nothing.
func (r *Result) accept(p *Pass, checks []*Check) {
	xs := r.Estate.Exceptions
	if len(xs) == 0 {
		return
	}
	for _, x := range xs {
		x.Suppressed = 0
	}
	named := map[string][]*estate.Exception{}
	var wide []*estate.Exception
	for _, x := range xs {
		for _, id := range x.Findings {
			named[id] = append(named[id], x)
		}
		if len(x.Findings) == 0 {
			wide = append(wide, x)
		}
	}
	matches := map[string]*pair.Match{}
	for _, m := range r.Estate.Matches {
		matches[m.Name] = m
	}
	for _, f := range r.Findings {
		for _, x := range append(slices.Clip(named[f.ID]), wide...) {
			if fits(x, f, matches[f.Tunnel]) {
				if x.Suppressed++; f.Accepted == nil && !x.Expired(r.Now) {
					f.Accepted = x
				}
			}
		}
	}
	var more []*Finding
	for i, c := range checks {
		if c.Exceptions != nil {
			p.Check, p.number, p.found = c, i, nil
			c.Exceptions(p, xs)
			p.quote()
			more = append(more, p.found...)
		}
	}
	if len(more) > 0 {
		identify(more)
		r.take(append(more, r.Findings...))
	}
}

// fits reports whether a finding lies within the scope of an exception.
func fits(x *estate.Exception, f *Finding, m *pair.Match) bool {
	if x.Check != "" && x.Check != f.Check && !(strings.HasSuffix(x.Check, "/*") && strings.HasPrefix(f.Check, x.Check[:len(x.Check)-1])) {
		return false
	}
	if x.Gateway != "" && x.Gateway != f.Gateway {
		return false
	}
	return x.Tunnel == "" || x.Tunnel == f.Tunnel || f.Connection != "" && x.Tunnel == f.Gateway+"/"+f.Connection ||
		m != nil && slices.ContainsFunc(m.Sides, func(s pair.Side) bool { return s.Name() == x.Tunnel })
}
