package policy

import (
	"fmt"

	"toril/audit"
	"toril/estate"
)

// Unused reports where an exception accepts nothing.
var Unused = &audit.Check{
	Name:     "policy/exception-unused",
	Title:    "An exception matches no finding",
	Severity: audit.Low,
	Why:      "What it was for is fixed or has moved; left in place, it would accept the fault unseen when that comes back.",
	Fix:      "Remove the exception, or correct its check, gateway, tunnel or findings.",
	Doc: audit.Doc{
		What: "Every exception whose last day is not over, in toril.yaml or in the file of --exceptions, is compared with what was " +
			"found. One that matches nothing, by a slip or because its fault is gone, is reported.",
		Harm:    "A slip in a name leaves the finding that was meant, and the next fault of that name is accepted by nobody's decision.",
		Write:   "The check and the gateway as the report names them, or the identity of the finding from the JSON.",
		Sources: []string{"Toril's judgement"},
	},
	Exceptions: func(p *audit.Pass, xs []*estate.Exception) {
		for _, x := range xs {
			if x.Suppressed == 0 && !x.Expired(p.Now) {
				f := audit.Finding{Gateway: x.Gateway, About: scope(x), At: audit.Evidence{Pos: x.At}}
				f.Message = fmt.Sprintf("the exception of %s for %s matches no finding", x.Owner, scope(x))
				p.Report(f)
			}
		}
	},
}
