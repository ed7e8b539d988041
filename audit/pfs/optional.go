package pfs

import (
	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// Optional reports where the far end may do without.
var Optional = &audit.Check{
	Name:     "pfs/optional",
	Setting:  settings.PFS.Row,
	Title:    "Perfect forward secrecy is optional",
	Severity: audit.Medium,
	Why:      "The far end decides whether PFS is used.",
	Fix:      "Add a group to every proposal of the child, and remove the choice of none.",
	PartOf: []audit.Part{
		{Of: "pfs/optional", By: audit.SameChildren},
		{Of: "ends/pfs-differs", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What:    "Some proposals of the child have a key exchange and some have none, or a proposal offers none as a choice.",
		Harm:    "A far end without PFS is accepted, so what looks like PFS in the configuration is none on the wire.",
		Write:   "Every proposal of the child ends in a group.",
		Sources: []string{"RFC 7296 section 1.3.1"},
		Demands: []string{baseline.PFS.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		set, ok := subject(s)
		d := s.Baseline.Demand(baseline.PFS)
		asked, optional := counts(set.Value)
		if !ok || asked == 0 || asked == len(set.Value) && optional == 0 || audit.OfLevel(d.Level) == audit.Info {
			return
		}
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.By(d.Level, d.Source.String())
		f.Lower(1)
		f.Message = "some ESP proposals have a group and some do not, so PFS is optional"
		p.Report(f)
	},
}
