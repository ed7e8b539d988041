package life

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/baseline"
	"toril/model"
	"toril/present"
	"toril/source"
)

// TooShort reports where rekeying is needless churn.
var TooShort = &audit.Check{
	Name:     "life/too-short",
	Title:    "The lifetime is needlessly short",
	Severity: audit.Low,
	Why:      "Every rekey costs work and can fail; below a few minutes it gains nothing.",
	Fix:      "Rekey the IKE SA after hours and children after about an hour.",
	Suggest:  audit.ByPeople("what was meant, a time or an amount and in which unit, only its author knows"),
	Doc: audit.Doc{
		What:    "A rekeying time is below the baseline's lower bound.",
		Harm:    "Load on both ends, lost packets at each change, logs that nobody reads any more.",
		Write:   "In swanctl.conf: rekey_time = 4h in the connection, 1h in the child.",
		Sources: []string{"RFC 7296 section 2.8"},
		Demands: []string{baseline.IKELifetime.Name, baseline.ChildLifetime.Name},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		short(p, s, s.Connection.LifetimeSetting(), s.Baseline.Limit(baseline.IKELifetime), s.Connection.At, "the IKE SA")
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !s.Shunted() {
			short(p, s, s.Child.Rekey, s.Baseline.Limit(baseline.ChildLifetime), s.Child.At, "the child")
		}
	},
}

func short(p *audit.Pass, s *audit.Subject, set model.Setting[time.Duration], l baseline.Limit, at source.Pos, what string) {
	least := time.Duration(l.Least * float64(time.Second))
	if set.Value == 0 || set.Value >= least || mistaken(set.Value) != "" {
		return
	}
	f := p.On(s, set.Where(at), set.IsDefault())
	f.Standard = l.Source.String()
	f.Measured, f.Required = present.Span(set.Value), "at least "+present.Span(least)
	f.Message = fmt.Sprintf("%s is rekeyed after %s, sooner than %s", what, present.Span(set.Value), present.Span(least))
	p.Report(f)
}
