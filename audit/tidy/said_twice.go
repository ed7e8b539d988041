package tidy

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// SaidTwice reports where one value is said several times with different contents.
var SaidTwice = &audit.Check{
	Name:     "tidy/said-twice",
	Title:    "A setting configured twice with different values",
	Severity: audit.Low,
	Why:      "Only the last one applies; anyone who reads the first is misled.",
	Fix:      "Keep the intended one and remove the other.",
	Suggest:  audit.Advice{Rules: []audit.RuleChange{audit.RemoveStatement}, Else: "the statement does not stand by itself on its lines"},
	Doc: audit.Doc{
		What: "A key that is set more than once in a section, or again in a later section of the same name, to different values. " +
			"The last one wins.",
		Harm: "A strong proposal stands at the top of a section and a weak one, left over from a test, further down: the weak one " +
			"is what the daemon offers.",
		Write:   "proposals once in every connection.",
		Sources: []string{"swanctl.conf(5)", "ipsec.conf(5)"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, d := range g.Definitions {
			if len(d.Again) == 0 {
				continue
			}
			f := audit.Finding{
				Gateway: g.Name,
				At:      audit.Evidence{Pos: d.At},
				Message: fmt.Sprintf("%s is set %d times to different values; this one, the last, applies", d.Name, len(d.Again)+1),
			}
			for _, at := range d.Again[:min(len(d.Again), 6)] {
				f.Also = append(f.Also, audit.Evidence{Pos: at, Note: "set before, without effect"})
			}
			p.Report(f)
		}
	},
}
