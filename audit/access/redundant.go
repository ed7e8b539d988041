package access

import (
	"toril/audit"
	"toril/model"
	"toril/walk"
)

// Redundant reports where a rule could go without any packet faring otherwise.
var Redundant = &audit.Check{
	Name:     "access/redundant",
	Title:    "A redundant rule",
	Severity: audit.Info,
	Why:      "The rules after it do the same with its packets; each such rule makes the others harder to read.",
	Fix:      "Remove it, unless it is there for its counter.",
	PartOf: []audit.Part{
		{Of: "access/redundant", By: audit.SameSeries},
	},
	Suggest: audit.Rules(audit.RemoveStatement),
	Doc: audit.Doc{
		What: "Accepting and dropping rules without log whose packets the next rule that meets them takes whole and treats alike, " +
			"or whose packets meet no further rule of a base chain and whose policy does the same.",
		Harm:    "None by itself; but of two rules that do the same, sooner or later only one is changed.",
		Write:   "The wider of the two rules alone.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Requires: audit.Shadows,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, c := range g.Chains {
			if c.Kind == model.NATChain {
				continue
			}
			series(p, g, c, "the rules that follow do the same with the packets of %s",
				shadows(p.Shadows(c), func(s *walk.Shadow) bool { return s.Kind == walk.Redundant }),
				func(s *walk.Shadow) audit.Finding {
					same := audit.Evidence{Pos: c.Policy.Where(c.At), Note: "the policy does the same"}
					if len(s.By) > 0 {
						same = audit.Evidence{Pos: s.By[0].At, Note: "does the same"}
					}
					return audit.Finding{Series: c.Name, Also: []audit.Evidence{same}}
				})
		}
	},
}
