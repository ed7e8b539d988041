// Package policy holds the checks of what an estate's owners declare: exceptions that are over, or that accept nothing.
package policy

import (
	"fmt"
	"strings"
	"time"

	"toril/audit"
	"toril/estate"
	"toril/present"
)

// Expired reports where an exception is over.
var Expired = &audit.Check{
	Name:     "policy/exception-expired",
	Title:    "An exception has expired",
	Severity: audit.Medium,
	Why:      "What was accepted until a day is accepted no longer: its findings count again.",
	Fix:      "Fix what it accepted, or have its owner decide again and set another day.",
	Doc: audit.Doc{
		What:    "The last day of every exception, in toril.yaml or in the file of --exceptions, is compared with the day of the audit.",
		Harm:    "An exception that nobody looks at again is a weakness that nobody decided to keep.",
		Write:   "until: 2027-06-30, after its owner has agreed.",
		Sources: []string{"Toril's judgement"},
	},
	Exceptions: func(p *audit.Pass, xs []*estate.Exception) {
		for _, x := range xs {
			if x.Expired(p.Now) {
				f := audit.Finding{Gateway: x.Gateway, About: scope(x), At: audit.Evidence{Pos: x.At}}
				verb := map[bool]string{true: "counts", false: "count"}[x.Suppressed == 1]
				f.Message = fmt.Sprintf("the exception of %s for %s ended on %s: %s %s again", x.Owner, scope(x),
					x.Until.Format(time.DateOnly), present.Plural(x.Suppressed, "finding"), verb)
				p.Report(f)
			}
		}
	},
}

// scope says what an exception is for.
func scope(x *estate.Exception) string {
	var out []string
	if x.Check != "" {
		out = append(out, x.Check)
	}
	if len(x.Findings) > 0 {
		out = append(out, present.Plural(len(x.Findings), "named finding"))
	}
	if x.Gateway != "" {
		out = append(out, "on "+x.Gateway)
	}
	if x.Tunnel != "" {
		out = append(out, "of "+x.Tunnel)
	}
	return strings.Join(out, " ")
}
