package tidy

import (
	"fmt"

	"toril/audit"
	"toril/gateway"
)

// SaidTwice speaks where one value is said several times with different contents.
var SaidTwice = &audit.Check{
	Name:     "tidy/said-twice",
	Title:    "The same thing said twice with different values",
	Severity: audit.Low,
	Why:      "Only the last one holds; whoever reads the first believes something else.",
	Mend:     "Keep the one that is meant and take the other out.",
	Doc: audit.Doc{
		What:    "A key that one section says more than once, or that a later section of the same name says again, with another value each time. The last one wins.",
		Harm:    "A strong proposal stands at the top of a section and a weak one, left over from a test, further down: the weak one is what the daemon offers.",
		Write:   "proposals once in every connection.",
		Sources: []string{"swanctl.conf(5)", "ipsec.conf(5)"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		for _, d := range g.Definitions {
			if len(d.Again) == 0 {
				continue
			}
			f := audit.Finding{Severity: audit.Low, Gateway: g.Name, At: audit.Evidence{Pos: d.At}, Message: fmt.Sprintf("%s is said %d times with different values; this one, the last, holds", d.Name, len(d.Again)+1)}
			for _, at := range d.Again[:min(len(d.Again), 6)] {
				f.Also = append(f.Also, audit.Evidence{Pos: at, Note: "said before, without effect"})
			}
			p.Report(f)
		}
	},
}
