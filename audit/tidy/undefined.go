package tidy

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// Undefined reports where a name is used that nothing defines.
var Undefined = &audit.Check{
	Name:     "tidy/undefined",
	Title:    "Used and never defined",
	Severity: audit.Medium,
	Why:      "The program that loads the file refuses it, or leaves out the statement: what was meant does not happen.",
	Fix:      "Define the name, correct its spelling, or give toril the file that defines it.",
	Doc: audit.Doc{
		What: "Jumps to chains, lookups in sets and maps, expansions of definitions and references between sections whose name " +
			"nothing in the gateway's files defines.",
		Harm: "nft and iptables-restore refuse a whole ruleset for one missing name, so that after the next restart the gateway " +
			"stands without its filter. A section that inherits from a missing one lacks what it should have inherited.",
		Write:   "define lan = 10.1.0.0/16 before the first $lan.",
		Sources: []string{"nft(8)", "iptables-restore(8)", "swanctl.conf(5)", "ipsec.conf(5)"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, d := range g.Definitions {
			if !d.Missing || len(d.Used) == 0 || d.Kind == model.IncludedFile {
				continue
			}
			f := audit.Finding{
				Gateway: g.Name,
				At:      audit.Evidence{Pos: d.Used[0]},
				Message: fmt.Sprintf("%s %q is used and nothing defines it", d.Kind, d.Name),
			}
			for _, at := range d.Used[1:min(len(d.Used), 6)] {
				f.Also = append(f.Also, audit.Evidence{Pos: at, Note: "used again"})
			}
			f.Rests(d.Doubts)
			p.Report(f)
		}
	},
}
