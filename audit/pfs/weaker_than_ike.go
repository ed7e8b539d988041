package pfs

import (
	"fmt"

	"toril/audit"
	"toril/baseline"
	"toril/ike"
	"toril/model/settings"
)

// WeakerThanIKE reports where the child's exchange is weaker than that of its IKE SA.
var WeakerThanIKE = &audit.Check{
	Name:     "pfs/weaker-than-ike",
	Setting:  settings.PFS.Row,
	Title:    "The child's key exchange is weaker than the IKE SA's",
	Severity: audit.Low,
	Why:      "After the first rekey, packets are protected by the weaker group.",
	Fix:      "Use the IKE SA's group for the children too.",
	PartOf: []audit.Part{
		{Of: "pfs/weaker-than-ike", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.GroupOfIKE}.WithFar(),
	Doc: audit.Doc{
		What:    "The preferred key exchange of the child has fewer bits of strength than that of the IKE SA.",
		Harm:    "An attacker picks the weakest link: the child's exchange alone decides about its packets.",
		Write:   "The same group in proposals and esp_proposals.",
		Sources: []string{"NIST SP 800-57 Part 1"},
		Demands: []string{baseline.Algorithms},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		set, ok := subject(s)
		if !ok || set.IsDefault() {
			return
		}
		child, of := ike.All(set.Value, ike.KeyExchange), ike.All(s.Connection.Proposals.Value, ike.KeyExchange)
		if len(child) == 0 || len(of) == 0 || child[0].ID == 0 || child[0].Strength() >= of[0].Strength() {
			return
		}
		if level, _ := s.Baseline.Judge(s.Child.Protocol.Value, child[0]); level.Against() ||
			level == baseline.Unsaid && child[0].Strength() < 112 {
			return // pfs/weak-group says more
		}
		f := p.On(s, set.Where(s.Child.At), s.Connection.Proposals.IsDefault())
		f.Message = fmt.Sprintf(
			"the child's %s (%d bits) is weaker than the IKE SA's %s (%d bits)",
			child[0].Label(),
			child[0].Strength(),
			of[0].Label(),
			of[0].Strength(),
		)
		f.Also = []audit.Evidence{{Pos: s.Connection.Proposals.Where(s.Connection.At), Note: "the IKE SA's proposals"}}
		p.Report(f)
	},
}
