package access

import (
	"toril/audit"
	"toril/model"
	"toril/walk"
)

// Shadowed reports where a rule changes nothing because earlier rules take all of its packets.
var Shadowed = &audit.Check{
	Name:     "access/shadowed",
	Title:    "A rule hidden by earlier rules",
	Severity: audit.Medium,
	Why:      "It is never reached and has no effect.",
	Fix:      "Move it before the rules that hide it, or remove it.",
	PartOf: []audit.Part{
		{Of: "access/shadowed", By: audit.SameSeries},
		{Of: "access/blanket", By: audit.SameLine},
	},
	Suggest: audit.Rules(audit.RemoveStatement),
	Doc: audit.Doc{
		What: "Every rule of every chain is compared, exactly, with the union of the rules before it that take their packets for " +
			"good. Rules whose conditions are outside the model hide nothing. The hiding rules are named; beyond a hundred such " +
			"rules of a chain, only the lines of the others. " +
			"Where all of them do the same as the hidden one, it is only clutter, and the severity is low.",
		Harm:    "A drop that was added at the end, behind the accept that it was meant to restrict, restricts nothing.",
		Write:   "ip saddr 10.2.0.66 drop before ip saddr 10.2.0.0/16 accept.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Requires: audit.Shadows,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, c := range g.Chains {
			all := p.Shadows(c)
			series(p, g, c, "no packet reaches %s: earlier rules match them all",
				shadows(all, func(s *walk.Shadow) bool { return s.Kind == walk.Hidden && !s.Same && s.Err == nil }), hidden)
			series(p, g, c, "no packet reaches %s: earlier rules match them all and do the same",
				shadows(all, func(s *walk.Shadow) bool { return s.Kind == walk.Hidden && s.Same && s.Err == nil }),
				func(s *walk.Shadow) audit.Finding {
					f := hidden(s)
					f.Series = c.Name
					f.Lower(1)
					return f
				})
			series(p, g, c, "whether earlier rules hide %s",
				shadows(all, func(s *walk.Shadow) bool { return s.Kind == walk.Hidden && s.Err != nil }),
				func(s *walk.Shadow) audit.Finding { return audit.Finding{Unsure: s.Err.Error()} })
		}
	},
}

// hidden begins the finding of a rule whose packets earlier ones take.
func hidden(s *walk.Shadow) (f audit.Finding) {
	if len(s.By) == 1 {
		f.Blame(s.By[0].At)
	}
	if w, ok := s.Rule.When.Witness(); ok {
		f.Example = w.String()
	}
	for _, by := range s.By[:min(4, len(s.By))] {
		f.Also = append(f.Also, audit.Evidence{Pos: by.At, Note: "matches its packets"})
	}
	return f
}
