package esp

import (
	"toril/audit"
	"toril/baseline"
	"toril/ike"
	"toril/model/settings"
)

// AHAlone reports where AH is used in place of ESP.
var AHAlone = &audit.Check{
	Name:     "esp/ah-alone",
	Setting:  settings.ChildProposals.Row,
	Title:    "AH protects packets but does not encrypt them",
	Severity: audit.High,
	Why:      "AH does not encrypt: anyone on the path can read every packet.",
	Fix:      "Use ESP with a combined cipher.",
	Effect:   audit.Leaks,
	PartOf: []audit.Part{
		{Of: "esp/ah-alone", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What:    "The child uses the Authentication Header and no ESP.",
		Harm:    "Packets cannot be changed, but are readable; and AH does not pass through NAT.",
		Write:   "Proposals for ESP in place of those for AH.",
		Sources: []string{"RFC 4302", "RFC 8221"},
		Demands: []string{baseline.AH.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Child.Protocol.Value != ike.AH || s.Shunted() {
			return
		}
		f := p.On(s, s.Child.Protocol.Where(s.Child.At), false)
		if d := s.Baseline.Demand(baseline.AH); d.Level != baseline.Unsaid {
			f.By(d.Level, d.Level.String()+" by "+d.Source.String())
		}
		f.Message = "the child uses AH, which does not encrypt"
		p.Report(f)
	},
}
