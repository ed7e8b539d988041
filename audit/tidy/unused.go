// Package tidy holds the checks of names and repetitions: what is defined and never used, used and never defined, or
// said twice.
package tidy

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// Unused reports where something is given a name that nothing refers to.
var Unused = &audit.Check{
	Name:     "tidy/unused",
	Title:    "Defined and never used",
	Severity: audit.Low,
	Why:      "It was meant to have an effect and has none, or it is a leftover that misleads the next reader.",
	Fix:      "Refer to it where it was meant to apply, or remove it.",
	Suggest:  audit.Advice{Rules: []audit.RuleChange{audit.RemoveStatement}, Else: "the statement does not stand by itself on its lines"},
	Doc: audit.Doc{
		What: "Chains that nothing jumps to, sets and maps that no rule looks into, definitions that no statement expands, sections " +
			"that no other refers to, connections that the daemon neither loads " +
			"nor inherits from.",
		Harm: "A chain of careful access rules that no base chain jumps to filters nothing, and reads as if it did. The same goes " +
			"for a connection with auto=ignore that was meant to be up.",
		Write:   "jump vpn in the forward chain, if chain vpn is what filters the tunnels.",
		Sources: []string{"nft(8)", "iptables-save(8)", "swanctl.conf(5)", "ipsec.conf(5)"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, d := range g.Definitions {
			if d.Missing || len(d.Used) > 0 || d.Kind == "value" {
				continue
			}
			f := audit.Finding{
				Gateway: g.Name,
				At:      audit.Evidence{Pos: d.At},
				Message: fmt.Sprintf("%s %q is defined and nothing uses it", d.Kind, d.Name),
			}
			f.Rests(d.Doubts)
			p.Report(f)
		}
	},
}
