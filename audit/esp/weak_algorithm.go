package esp

import (
	"fmt"

	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// Weak reports where the preferred or only algorithm of a child is weak.
var Weak = &audit.Check{
	Name:     "esp/weak-algorithm",
	Setting:  settings.ChildProposals.Row,
	Title:    "ESP prefers a weak algorithm",
	Severity: audit.High,
	Why:      "It protects every packet that passes through the tunnel.",
	Fix:      "Offer strong algorithms only, for example AES-GCM with 256 bits, on both ends.",
	PartOf: []audit.Part{
		{Of: "esp/weak-algorithm", By: audit.SameWeak},
		{Of: "ends/weaker-than-possible", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What: "Every cipher and integrity algorithm in the child's proposals is looked up in the baseline. The check reports once " +
			"per setting, naming all weak algorithms in it, " +
			"where a weak one is preferred or no strong one of its type is offered.",
		Harm: "A 64-bit block cipher repeats blocks after some gigabytes under one key, and from repeated blocks plain text " +
			"follows; a short or broken hash lets packets be forged.",
		Sources: []string{"RFC 8221 sections 5 and 6", "CVE-2016-2183"},
		Demands: []string{baseline.Algorithms},
	},
	Requires: audit.Negotiation,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() {
			return
		}
		set, j := s.Child.Proposals, judge(s)
		if len(j.Weak) == 0 || !j.Preferred {
			return
		}
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.Judged(j, s.Child.Parts)
		f.Message = fmt.Sprintf("the %s proposals prefer %s%s", s.Child.Protocol.Value, j.Names(), audit.ByDefault(set))
		audit.Exposure(&f, s, j)
		p.Report(f)
	},
}
