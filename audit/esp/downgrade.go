package esp

import (
	"fmt"

	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// Downgrade reports where weak algorithms stand beside preferred strong ones.
var Downgrade = &audit.Check{
	Name:     "esp/downgrade",
	Setting:  settings.ChildProposals.Row,
	Title:    "ESP offers weak algorithms beside strong ones",
	Severity: audit.Medium,
	Why:      "Anything offered can be negotiated, however low it stands in the list.",
	Fix: "Remove the weak algorithms from the proposals; where both ends have nothing else in common, add a strong proposal on " +
		"both first.",
	PartOf: []audit.Part{
		{Of: "esp/downgrade", By: audit.SameWeak},
		{Of: "esp/weak-algorithm", By: audit.SameWeak},
		{Of: "ends/weaker-than-possible", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What: "The child's proposals prefer algorithms that the baseline accepts, and also offer some that it advises against.",
		Harm: "A far end that only offers the weak one, by mistake or because it was replaced, gets it, and the tunnel looks as " +
			"healthy as before.",
		Sources: []string{"RFC 8221 sections 5 and 6", "RFC 7296 section 2.7"},
		Demands: []string{baseline.Algorithms},
	},
	Requires: audit.Negotiation,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() {
			return
		}
		set, j := s.Child.Proposals, judge(s)
		if len(j.Weak) == 0 || j.Preferred {
			return
		}
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.Judged(j, s.Child.Parts)
		f.Message = fmt.Sprintf("the %s proposals also offer %s%s", s.Child.Protocol.Value, j.Names(), audit.ByDefault(set))
		audit.Exposure(&f, s, j)
		f.Fix = p.WithoutWeak(s, j)
		p.Report(f)
	},
}
