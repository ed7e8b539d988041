package ike

import (
	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model/settings"
)

// VersionOpen reports where a connection accepts both versions.
var VersionOpen = &audit.Check{
	Name:     "ike/version-open",
	Setting:  settings.IKEVersion.Row,
	Title:    "IKE version is not restricted",
	Severity: audit.Low,
	Why:      "A peer that asks for IKEv1 gets it, with all the weaknesses that IKEv2 was designed to fix.",
	Fix:      "Restrict the connection to IKEv2.",
	PartOf: []audit.Part{
		{Of: "ike/version-open", By: audit.SameTunnel},
		{Of: "ike/version-1", By: audit.SameTunnel},
		{Of: "ends/version-differs", By: audit.SameTunnel},
	},
	Suggest: audit.Values(settings.IKEVersion, algo.V2).WithFar(),
	Doc: audit.Doc{
		What: "The connection starts with IKEv2 and, as responder, accepts IKEv1 too. Often it is not configured: it is the " +
			"daemon's default.",
		Harm: "A far end that is replaced or set up from an old example brings the tunnel up with IKEv1, and nobody notices, " +
			"because it works.",
		Sources: []string{"RFC 9395", "RFC 7296 section 2.5"},
		Demands: []string{baseline.IKEv2.Name},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		v := s.Connection.Version
		d := s.Baseline.Demand(baseline.IKEv2)
		if v.Value != algo.Either || audit.OfLevel(d.Level) == audit.Info {
			return
		}
		f := p.On(s, v.Where(s.Connection.At), v.IsDefault())
		f.By(d.Level, d.Source.String())
		f.Lower(2)
		f.Message = "the connection accepts IKEv1 as well as IKEv2" + audit.ByDefault(v)
		p.Report(f)
	},
}
