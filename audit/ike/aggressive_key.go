package ike

import (
	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model/settings"
)

// Aggressive reports where aggressive mode meets a pre-shared key.
var Aggressive = &audit.Check{
	Name:     "ike/aggressive-key",
	Setting:  settings.IKEv1Mode.Row,
	Title:    "Aggressive mode with a pre-shared key",
	Severity: audit.High,
	Why:      "The responder sends a hash of the key to anyone who asks, and the key can be guessed offline.",
	Fix:      "Use IKEv2; if the far end cannot, main mode, or certificates.",
	PartOf: []audit.Part{
		{Of: "ike/aggressive-key", By: audit.SameTunnel},
		{Of: "ike/version-1", By: audit.SameTunnel},
	},
	Suggest: audit.Values(settings.IKEv1Mode, false).WithFar(),
	Doc: audit.Doc{
		What: "An IKEv1 connection uses aggressive mode, and one side authenticates with a pre-shared key.",
		Harm: "One packet from anywhere is enough to get the hash; from then on the attacker tries billions of keys per second " +
			"offline, and a dictionary word falls at once.",
		Write:   "version = 2, and no aggressive mode.",
		Sources: []string{"RFC 2409 section 5.4", "RFC 9395"},
		Demands: []string{baseline.AggressiveWithKey.Name},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		d := s.Baseline.Demand(baseline.AggressiveWithKey)
		if !c.Aggressive.Value || c.Version.Value == algo.V2 || c.Local.Method.Value != algo.PSK && c.Remote.Method.Value != algo.PSK {
			return
		}
		f := p.On(s, c.Aggressive.Where(c.At), false)
		f.By(d.Level, d.Source.String())
		f.Message = "aggressive mode is used with a pre-shared key"
		p.Report(f)
	},
}
