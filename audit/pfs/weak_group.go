package pfs

import (
	"slices"

	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// WeakGroup reports where the child's key exchange is weak.
var WeakGroup = &audit.Check{
	Name:     "pfs/weak-group",
	Setting:  settings.PFS.Row,
	Title:    "Weak key exchange for perfect forward secrecy",
	Severity: audit.High,
	Why:      "Child SA keys are only as strong as the exchange that they come from.",
	Fix:      "Use a group of 2048 bits (14) or better, or an elliptic curve such as group 19 or 20, on both ends.",
	PartOf: []audit.Part{
		{Of: "pfs/weak-group", By: audit.SameWeak},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What:    "The key exchange of a child's proposals is looked up in the baseline.",
		Harm:    "A 1024-bit group can be broken ahead of time for everyone who uses it.",
		Sources: []string{"RFC 8247 section 2.4", "NIST SP 800-57 Part 1"},
		Demands: []string{baseline.Algorithms},
	},
	Requires: audit.Negotiation,
	Child: func(p *audit.Pass, s *audit.Subject) {
		set, ok := subject(s)
		if !ok {
			return
		}
		j := audit.Judge(s.Baseline, set.Value, s.Child.Protocol.Value, exchanges...)
		j.Weak = slices.DeleteFunc(j.Weak, func(w audit.Weak) bool { return w.ID == 0 })
		if len(j.Weak) == 0 {
			return
		}
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.Judged(j, s.Child.Parts)
		f.Message = "the child's key exchange offers " + j.Names()
		audit.Exposure(&f, s, j)
		p.Report(f)
	},
}
