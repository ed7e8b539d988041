package life

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/model"
	"toril/present"
)

// Margin reports where the random part of the lifetime swallows it.
var Margin = &audit.Check{
	Name:     "life/margin",
	Title:    "The margin is larger than the lifetime",
	Severity: audit.Medium,
	Why: "Rekeying starts up to the margin too early, so it rekeys immediately and repeatedly, or the hard limit comes before " +
		"rekeying.",
	Fix:     "Keep the margin at about a tenth of the lifetime, and the hard limit above the rekeying time.",
	Suggest: audit.ByPeople("what was meant, a time or an amount and in which unit, only its author knows"),
	Doc: audit.Doc{
		What: "The random time that is taken off the rekeying time is as long as the rekeying time itself, or the hard limit lies " +
			"before it.",
		Harm: "An SA that is rekeyed as soon as it is up, or that expires each time before it is rekeyed: a tunnel that drops at " +
			"fixed intervals.",
		Write:   "In swanctl.conf leave rand_time, over_time and life_time out, or: rekey_time = 60m, life_time = 66m, rand_time = 6m.",
		Sources: []string{"swanctl.conf(5)"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		if swallowed(p, s, c.Spans, c.Margin, "the IKE SA") {
			return
		}
		if life := c.Lifetime(); life > 0 && c.Random.Value >= life {
			f := p.On(s, c.Random.Where(c.At), c.Random.IsDefault())
			f.Message = fmt.Sprintf(
				"the IKE SA's margin of %s is as long as its lifetime of %s",
				present.Span(c.Random.Value),
				present.Span(life),
			)
			p.Report(f)
		}
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		c := s.Child
		if s.Shunted() || swallowed(p, s, c.Spans, c.Margin, "the child") || c.Rekey.Value == 0 {
			return
		}
		f := p.On(s, c.Random.Where(c.Life.Where(c.At)), false)
		switch {
		case c.Life.Value > 0 && c.Life.Value <= c.Rekey.Value:
			f = p.On(s, c.Life.Where(c.At), false)
			f.Message = fmt.Sprintf(
				"the child's hard limit of %s does not come after its rekeying at %s",
				present.Span(c.Life.Value),
				present.Span(c.Rekey.Value),
			)
		case c.Random.Value >= c.Rekey.Value:
			f.Message = fmt.Sprintf(
				"the child's margin of %s is as long as its lifetime of %s",
				present.Span(c.Random.Value),
				present.Span(c.Rekey.Value),
			)
		default:
			return
		}
		p.Report(f)
	},
}

// swallowed reports where the margin at which renewal begins before the end is as long as a lifetime.
func swallowed(p *audit.Pass, s *audit.Subject, spans []model.Span, margin model.Setting[time.Duration], what string) bool {
	for _, span := range spans {
		if margin.Value == 0 || span.Value == 0 || margin.Value < span.Value {
			continue
		}
		f := p.On(s, margin.Where(span.Where(s.Connection.At)), false)
		f.Message = fmt.Sprintf(
			"%s is to be rekeyed %s before its end, and its lifetime is %s",
			what,
			present.Span(margin.Value),
			present.Span(span.Value),
		) + audit.ByDefault(
			margin,
		)
		if !span.At.IsZero() && span.At != f.At.Pos {
			f.Also = []audit.Evidence{{Pos: span.At, Note: "the lifetime"}}
		}
		p.Report(f)
		return true
	}
	return false
}
