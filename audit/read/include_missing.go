// Package read holds the checks of what could not be read: they keep silence from passing for soundness.
package read

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// IncludeMissing reports where a file includes another that was not given.
var IncludeMissing = &audit.Check{
	Name:     "read/include-missing",
	Title:    "An included file was not given",
	Severity: audit.Medium,
	Why:      "The missing file is part of the configuration; no result for this gateway takes it into account.",
	Fix:      "Save the included file beside the one that includes it, and audit again.",
	Doc: audit.Doc{
		What: "An include statement names a file that is neither at that place below the gateway's folder nor at a shorter form " +
			"of its path. Patterns with wildcards may match nothing.",
		Harm: "Keys, connections and whole chains of rules often live in included files. An audit without them is an audit of " +
			"another gateway.",
		Write: "For include /etc/swanctl/conf.d/peers.conf put conf.d/peers.conf, or etc/swanctl/conf.d/peers.conf, into the " +
			"gateway's folder.",
		Sources: []string{"swanctl.conf(5)", "ipsec.conf(5)", "nft(8)", "iked.conf(5)", "interfaces(5)"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, d := range g.Definitions {
			if d.Kind == "included file" && d.Missing {
				p.Report(
					audit.Finding{
						Gateway: g.Name,
						At:      audit.Evidence{Pos: d.Used[0]},
						Message: fmt.Sprintf("the included file %q was not given", d.Name),
					},
				)
			}
		}
	},
}
