package pfs

import (
	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// Absent reports where children are keyed from the IKE SA alone.
var Absent = &audit.Check{
	Name:     "pfs/absent",
	Setting:  settings.PFS.Row,
	Title:    "No perfect forward secrecy",
	Severity: audit.High,
	Why:      "All child SA keys come from one exchange: breaking that exchange exposes all traffic since the tunnel came up.",
	Fix:      "Add the same group to the child's proposals on both ends.",
	PartOf: []audit.Part{
		{Of: "pfs/absent", By: audit.SameChildren},
		{Of: "pfs/optional", By: audit.SameChildren},
		{Of: "ends/pfs-differs", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What: "No proposal of the child asks for a key exchange of its own. Often it is not configured: the daemon's default " +
			"proposals have none.",
		Harm: "The keys of every child are derived from the IKE SA's secret. Anyone who gets it, by breaking the exchange or from a " +
			"seized gateway, decrypts all recorded " +
			"traffic of its lifetime.",
		Write: "Set it on both ends at once: on one side only, IKEv2 brings " +
			"the tunnel up and fails at the first rekeying.",
		Sources: []string{"RFC 7296 section 1.3.1", "NIST SP 800-77 Rev. 1"},
		Demands: []string{baseline.PFS.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		set, ok := subject(s)
		d := s.Baseline.Demand(baseline.PFS)
		asked, _ := counts(set.Value)
		if !ok || asked > 0 || audit.OfLevel(d.Level) == audit.Info {
			return
		}
		at, byDefault := set.Where(s.Child.At), set.IsDefault()
		if off := s.Child.PFS; !off.Value && !off.IsDefault() { // a statement of its own turns it off
			at, byDefault = off.At, false
		}
		f := p.On(s, at, byDefault)
		f.By(d.Level, d.Source.String())
		f.Message = "the child SA is rekeyed without PFS"
		if byDefault {
			f.Message += audit.ByDefault(set)
		}
		p.Report(f)
	},
}
