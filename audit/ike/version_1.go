package ike

import (
	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model/settings"
)

// Version1 reports where a connection uses IKEv1 only.
var Version1 = &audit.Check{
	Name:     "ike/version-1",
	Setting:  settings.IKEVersion.Row,
	Title:    "IKE version 1 is in use",
	Severity: audit.High,
	Why: "IKEv1 is historic: it has no protection against flooding, its aggressive mode reveals a hash of the key, and it is no " +
		"longer maintained.",
	Fix: "Set both ends to IKEv2.",
	PartOf: []audit.Part{
		{Of: "ike/version-1", By: audit.SameTunnel},
		{Of: "ends/version-differs", By: audit.SameTunnel},
	},
	Suggest: audit.Values(settings.IKEVersion, algo.V2).WithFar(),
	Doc: audit.Doc{
		What: "The connection is set to IKEv1 only.",
		Harm: "New algorithms (AES-GCM for IKE, ML-KEM) do not exist in it, a single lost packet can leave the two ends in " +
			"different states, and authentication is weaker.",
		Write:   "Both ends: IKEv2.",
		Sources: []string{"RFC 9395"},
		Demands: []string{baseline.IKEv2.Name},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		v := s.Connection.Version
		d := s.Baseline.Demand(baseline.IKEv2)
		if v.Value != algo.V1 || audit.OfLevel(d.Level) == audit.Info {
			return
		}
		f := p.On(s, v.Where(s.Connection.At), v.IsDefault())
		f.By(d.Level, d.Source.String())
		f.Message = "the connection uses IKEv1 only" + audit.ByDefault(v)
		p.Report(f)
	},
}
