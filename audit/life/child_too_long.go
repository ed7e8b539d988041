package life

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
	"toril/present"
)

// ChildTooLong reports where a child lives longer than the baseline allows.
var ChildTooLong = &audit.Check{
	Name:     "life/child-too-long",
	Setting:  settings.ChildLifetime.Row,
	Title:    "The child SA lives too long",
	Severity: audit.Medium,
	Why:      "The longer a key is used, the more traffic is exposed if it is broken.",
	Fix:      "Rekey the child within the time that the baseline allows.",
	PartOf: []audit.Part{
		{Of: "life/child-too-long", By: audit.SameChildren},
	},
	Suggest: audit.Values(settings.ChildLifetime, time.Hour, 8*time.Hour),
	Doc: audit.Doc{
		What:    "The time until the child is rekeyed is above the baseline's bound, or it is never rekeyed by time.",
		Harm:    "More traffic under one key; with PFS, a longer stretch of it opens with each broken exchange.",
		Sources: []string{"NIST SP 800-77 Rev. 1", "RFC 7296 section 2.8"},
		Demands: []string{baseline.ChildLifetime.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		most, set := s.Baseline.Limit(baseline.ChildLifetime), s.Child.Rekey
		if most.Most == 0 || s.Shunted() {
			return
		}
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.By(most.Level, most.Source.String())
		f.Measured, f.Required = present.SpanOr("never rekeyed")(set.Value), "at most "+present.Span(most.Duration())
		switch {
		case set.Value == 0 && s.Child.Life.Value > 0 && s.Child.Life.Value <= most.Duration(): // it ends, and is made anew
			return
		case set.Value == 0:
			f.Message = "the child is never rekeyed by time"
		case set.Value > most.Duration():
			f.Message = fmt.Sprintf(
				"the child is rekeyed after %s, later than %s%s",
				present.Span(set.Value),
				present.Span(most.Duration()),
				audit.ByDefault(set),
			)
		default:
			return
		}
		p.Report(f)
	},
}
