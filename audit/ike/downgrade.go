package ike

import (
	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model/settings"
)

// Downgrade reports where weak algorithms stand beside preferred strong ones.
var Downgrade = &audit.Check{
	Name:     "ike/downgrade",
	Setting:  settings.IKEProposals.Row,
	Title:    "IKE offers weak algorithms beside strong ones",
	Severity: audit.Medium,
	Why:      "Anything offered can be negotiated, however low it stands in the list.",
	Fix: "Remove the weak algorithms from the proposals; where both ends have nothing else in common, add a strong proposal on " +
		"both first.",
	PartOf: []audit.Part{
		{Of: "ike/downgrade", By: audit.SameWeak},
		{Of: "ike/weak-algorithm", By: audit.SameWeak},
		{Of: "ends/weaker-than-possible", By: audit.SameIKE},
	},
	Suggest: audit.Advice{Sets: audit.StrongIKE}.WithFar(),
	Doc: audit.Doc{
		What: "The proposals of the IKE SA prefer algorithms that the baseline accepts, and also offer some that it advises against.",
		Harm: "A partner's device that is set up carelessly, or replaced, gets the weak suite unnoticed; and a fault in the negotiation " +
			"itself, as there have been some, has something to fall back to.",
		Write: "Only what is wanted. Without the word default, which " +
			"adds the daemon's own list.",
		Sources: []string{"RFC 8247 section 2", "RFC 7296 section 2.7"},
		Demands: []string{baseline.Algorithms},
	},
	Requires: audit.Negotiation,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		set := s.Connection.Proposals
		j := audit.Judge(s.Baseline, set.Value, algo.IKE, ikeTypes...)
		if len(j.Weak) == 0 || j.Preferred {
			return
		}
		f := p.On(s, set.Where(s.Connection.At), set.IsDefault())
		f.Judged(j, s.Connection.Parts)
		f.Message = "the IKE proposals also offer " + j.Names() + audit.ByDefault(set)
		audit.Exposure(&f, s, j)
		f.Fix = p.WithoutWeak(s, j)
		p.Report(f)
	},
}
