package life

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
	"toril/present"
)

// IKETooLong reports where the IKE SA lives longer than the baseline allows.
var IKETooLong = &audit.Check{
	Name:     "life/ike-too-long",
	Setting:  settings.IKELifetime.Row,
	Title:    "The IKE SA lives too long",
	Severity: audit.Medium,
	Why:      "The longer a key is used, the more is exposed if it is broken.",
	Fix:      "Rekey the IKE SA within the time that the baseline allows, on both ends.",
	PartOf: []audit.Part{
		{Of: "life/ike-too-long", By: audit.SameTunnel},
	},
	Suggest: audit.Values(settings.IKELifetime, 4*time.Hour, 8*time.Hour, 24*time.Hour),
	Doc: audit.Doc{
		What:    "The time until the IKE SA is rekeyed or reauthenticated is above the baseline's bound, or there is none.",
		Harm:    "A key that was taken from memory stays good; a peer whose access was withdrawn stays connected.",
		Sources: []string{"NIST SP 800-77 Rev. 1", "RFC 7296 section 2.8"},
		Demands: []string{baseline.IKELifetime.Name},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		most, set := s.Baseline.Limit(baseline.IKELifetime), s.Connection.LifetimeSetting()
		if most.Most == 0 {
			return
		}
		f := p.On(s, set.Where(s.Connection.At), set.IsDefault())
		f.By(most.Level, most.Source.String())
		f.Measured, f.Required = present.SpanOr("never rekeyed")(s.Connection.Lifetime()), "at most "+present.Span(most.Duration())
		switch life := s.Connection.Lifetime(); {
		case life == 0:
			f.Message = "the IKE SA is neither rekeyed nor reauthenticated" + audit.ByDefault(set)
		case life > most.Duration():
			f.Message = fmt.Sprintf(
				"the IKE SA is rekeyed after %s, later than %s%s",
				present.Span(life),
				present.Span(most.Duration()),
				audit.ByDefault(set),
			)
		default:
			return
		}
		p.Report(f)
	},
}
