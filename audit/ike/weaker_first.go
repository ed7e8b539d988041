package ike

import (
	"fmt"

	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model/settings"
)

// WeakerFirst reports where all is acceptable but the weaker comes first.
var WeakerFirst = &audit.Check{
	Name:     "ike/weaker-first",
	Setting:  settings.IKEProposals.Row,
	Title:    "IKE prefers the weaker of its algorithms",
	Severity: audit.Info,
	Why:      "The first common algorithm is used, so the stronger ones have no effect.",
	Fix:      "Put the strongest proposal first.",
	PartOf: []audit.Part{
		{Of: "ike/weaker-first", By: audit.SameTunnel},
	},
	Suggest: audit.Advice{Sets: audit.StrongIKE}.WithFar(),
	Doc: audit.Doc{
		What: "Among algorithms that the baseline accepts, the preferred key exchange or cipher has fewer bits of strength than a " +
			"later one of the same setting.",
		Harm: "Nothing breaks, but the stronger algorithm brings no benefit.",
		Write: "The strongest first, in every list of a proposal and in the list of proposals. Remember that the responder's order " +
			"may decide, so the order " +
			"belongs on both ends.",
		Sources: []string{"RFC 7296 section 2.7", "NIST SP 800-57 Part 1"},
		Demands: []string{baseline.Algorithms},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		set := s.Connection.Proposals
		if set.IsDefault() || len(audit.Judge(s.Baseline, set.Value, algo.IKE, ikeTypes...).Weak) > 0 {
			return
		}
		for _, r := range []algo.Registry{algo.Encryption, algo.KeyExchange} {
			all := algo.All(set.Value, r)
			if len(all) < 2 {
				continue
			}
			best := all[0]
			for _, c := range all[1:] {
				if c.Strength() > best.Strength() {
					best = c
				}
			}
			if best.Strength() > all[0].Strength() {
				f := p.On(s, set.Where(s.Connection.At), false)
				f.Message = fmt.Sprintf(
					"the IKE proposals prefer %s (%d bits) although %s (%d bits) is offered too",
					all[0].Label(),
					all[0].Strength(),
					best.Label(),
					best.Strength(),
				)
				p.Report(f)
			}
		}
	},
}
