package ike

import (
	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// NoLiveness reports where nobody would notice that the peer is gone.
var NoLiveness = &audit.Check{
	Name:     "ike/no-liveness",
	Setting:  settings.Liveness.Row,
	Title:    "No liveness check of the peer",
	Severity: audit.Low,
	Why:      "When the peer restarts or the path breaks, packets go into a dead SA until its lifetime ends.",
	Fix:      "Enable dead peer detection on both ends, for example every 30 seconds.",
	PartOf: []audit.Part{
		{Of: "ike/no-liveness", By: audit.SameTunnel},
	},
	Suggest: audit.Values(settings.Liveness, audit.LivenessEvery),
	Doc: audit.Doc{
		What: "The connection never checks whether its peer is alive.",
		Harm: "After a restart of one end the other keeps encrypting for an SA that no longer exists: the tunnel is up and " +
			"nothing passes, until the lifetime ends.",
		Sources: []string{"RFC 7296 section 2.4", "RFC 3706"},
		Demands: []string{baseline.Liveness.Name},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		d := s.Baseline.Demand(baseline.Liveness)
		if c.DPD.Value != 0 || audit.OfLevel(d.Level) == audit.Info {
			return
		}
		f := p.On(s, c.DPD.Where(c.At), c.DPD.IsDefault())
		f.By(d.Level, d.Source.String())
		f.Lower(1)
		f.Message = "the peer's liveness is never checked (no dead peer detection)" + audit.ByDefault(c.DPD)
		p.Report(f)
	},
}
