package access

import (
	"toril/audit"
	"toril/model"
	"toril/walk"
)

// NeverMatches reports where the conditions of a rule contradict each other.
var NeverMatches = &audit.Check{
	Name:     "access/never-matches",
	Title:    "A rule that no packet can match",
	Severity: audit.Medium,
	Why:      "Its conditions contradict each other, so it never has any effect.",
	Fix:      "Correct the conditions.",
	PartOf: []audit.Part{
		{Of: "access/never-matches", By: audit.SameSeries},
	},
	Suggest: audit.Rules(audit.RemoveStatement),
	Doc: audit.Doc{
		What: "Rules whose conditions, taken together, leave no packet: two sources, a port of a protocol without ports, an IPv6 " +
			"address in an IPv4 chain.",
		Harm:    "A protective rule that protects nothing, or an allow rule that somebody will \"fix\" by allowing more.",
		Write:   "ip saddr { 10.2.0.1, 10.2.0.2 } in place of ip saddr 10.2.0.1 ip saddr 10.2.0.2.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Requires: audit.Shadows,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, c := range g.Chains {
			series(p, g, c, "the conditions of %s contradict each other: no packet matches",
				shadows(p.Shadows(c), func(s *walk.Shadow) bool { return s.Kind == walk.Impossible }),
				func(*walk.Shadow) audit.Finding { return audit.Finding{Series: c.Name} })
		}
	},
}
