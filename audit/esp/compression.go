package esp

import (
	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// Compression reports where packets are compressed before they are encrypted.
var Compression = &audit.Check{
	Name:     "esp/compression",
	Setting:  settings.IPComp.Row,
	Title:    "Packets are compressed before they are encrypted",
	Severity: audit.Low,
	Why:      "The length of a compressed packet reveals something about its content.",
	Fix:      "Turn IP compression off.",
	PartOf: []audit.Part{
		{Of: "esp/compression", By: audit.SameChildren},
	},
	Suggest: audit.Values(settings.IPComp, false),
	Doc: audit.Doc{
		What: "The child offers IP compression (IPComp, RFC 3173) to its peer, so packets may be compressed before they are encrypted.",
		Harm: "Anyone who can make one side send chosen text next to a secret learns the secret from the lengths; where packets " +
			"do not shrink, compression costs time for nothing.",
		Sources: []string{"RFC 3173", "RFC 8221"},
		Demands: []string{baseline.IPCompression.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		d := s.Baseline.Demand(baseline.IPCompression)
		if !s.Child.IPComp.Value || audit.OfLevel(d.Level) == audit.Info {
			return
		}
		f := p.On(s, s.Child.IPComp.Where(s.Child.At), s.Child.IPComp.IsDefault())
		f.By(d.Level, d.Source.String())
		f.Lower(1)
		f.Message = "IP compression is offered"
		p.Report(f)
	},
}
