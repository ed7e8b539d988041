// Package observed holds the checks that hold saved status against what is configured and predicted.
package observed

import (
	"slices"
	"strings"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/observe"
	"toril/pair"
	"toril/present"
)

// sources are the documents that the checks of status rest on.
var sources = []string{"RFC 4301 section 4.4.2", "RFC 7296 section 1.2"}

// seen says what was observed of the subject's end; ok is false where no status of it was given.
func seen(s *audit.Subject) (e observe.End, ok bool) {
	e = s.Observed()
	return e, e.Given()
}

// farSeen says what was observed of the far end, and of its child that means the subject's.
func farSeen(s *audit.Subject) (end pair.End, c *observe.Child, ok bool) {
	far, given := s.Far()
	if !given {
		return far, nil, false
	}
	e := s.FarObserved()
	for _, k := range s.Tunnel.Counterparts(s.Child) {
		if c = e.Child(k); c != nil {
			return far, c, true
		}
	}
	return far, nil, false
}

// weakIn are the weak algorithms of a suite that was seen, by the baseline.
func weakIn(s *audit.Subject, suite ike.Suite) audit.Judged {
	p := ike.Proposal{Protocol: suite.Protocol}
	var types []ike.Registry
	for _, c := range suite.All() {
		p.Transforms[c.Registry] = ike.Choices{c}
		types = append(types, c.Registry)
	}
	if suite.Transforms[ike.Encryption].Algorithm != nil && suite.Transforms[ike.Encryption].Combined {
		p.Transforms[ike.Integrity], types = nil, slices.DeleteFunc(types, func(r ike.Registry) bool { return r == ike.Integrity })
	}
	return audit.Judge(s.Baseline, []ike.Proposal{p}, suite.Protocol, types...)
}

// age puts the age of an SA in words.
func ageOf(sa *model.ChildSA) string {
	if sa.Age == 0 {
		return "of unknown age"
	}
	return present.Span(sa.Age) + " old"
}

func names(ss []ike.Suite) string {
	var out []string
	for _, s := range ss {
		if !slices.Contains(out, s.String()) {
			out = append(out, s.String())
		}
	}
	return strings.Join(out, " or ")
}

// parts are the checks of what is configured whose findings explain what is observed of a tunnel, by what they must have in common.
func parts(by func(*audit.Finding) []string, checks ...string) []audit.Part {
	var out []audit.Part
	for _, c := range checks {
		out = append(out, audit.Part{Of: c, By: by})
	}
	return out
}

// negotiated are the checks that say why a tunnel, or a child of it, does not come up.
var negotiated = []string{
	"ike/refused",
	"key/missing",
	"ends/no-counterpart",
	"ends/unreachable",
	"ends/version-differs",
	"ends/proposals-differ",
	"ends/authentication-differs",
	"ends/identity-differs",
	"ends/key-differs",
	"ends/certificate-untrusted",
	"ends/pfs-differs",
	"ends/not-mirrored",
	"ends/mode-differs",
	"access/ike-closed",
	"route/no-route-to-peer",
}
