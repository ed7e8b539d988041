package read

import (
	"strings"

	"toril/audit"
	"toril/model"
)

// Refused reports where a program takes nothing of its configuration, for one mistake in it.
var Refused = &audit.Check{
	Name:     "read/refused",
	Title:    "The program refuses its configuration as a whole",
	Severity: audit.High,
	Why: "One mistake keeps all of it from being loaded: the gateway runs its previous configuration or none, and these files " +
		"do not show which.",
	Fix: "Correct the line, load the configuration, and read the program's answer.",
	Doc: audit.Doc{
		What: "Mistakes after which the program that a file belongs to takes nothing of its configuration: a brace that is not " +
			"closed, a word where none may stand, a byte order mark. What " +
			"the files say is judged all the same, as far as it was understood, and counts as not loaded.",
		Harm: "A closing brace was lost in the last change. The daemon kept the connections of before until it was restarted; since " +
			"then there are none, or the rules let " +
			"everything pass.",
		Write:   "Load it by hand once: swanctl --load-all, nft -c -f rules.nft, iptables-restore --test.",
		Sources: []string{"swanctl(8)", "nft(8)", "iptables-restore(8)", "iked(8)"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, r := range g.Refused {
			p.Report(audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: r.Pos},
				Message: loaded(r)})
		}
	},
}

func loaded(r model.Refusal) string {
	if strings.HasPrefix(r.What, "nothing") {
		return r.What + " is loaded: " + r.Message
	}
	return r.What + " is not loaded: " + r.Message
}
