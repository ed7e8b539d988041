package observed

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/model"
	"toril/present"
)

// TooOld reports where an SA is older than the configured lifetime allows.
var TooOld = &audit.Check{
	Name:     "observed/too-old",
	Title:    "An SA is older than its lifetime allows",
	Severity: audit.Medium,
	Symptom:  true,
	Why:      "The keys are not renewed as the file says: the daemon works by another configuration, or does not rekey.",
	Fix:      "Load the configuration, and set the connection up again.",
	PartOf:   parts(audit.SameChild, "observed/not-loaded"),
	Doc: audit.Doc{
		What: "The age of every IKE and child SA that status tells, against the time at which it would be closed if nothing " +
			"renewed it.",
		Harm:    "A key that lives for weeks protects more than anybody counted with.",
		Write:   "swanctl --load-all, then swanctl --rekey --ike NAME.",
		Sources: []string{"RFC 7296 section 2.8", "RFC 4301 section 4.4.2.1"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		if e, ok := seen(s); ok {
			for _, sa := range e.IKE {
				if sa.Up {
					old(p, s, sa.Age, s.Connection.Hard(), "the IKE SA", s.Connection.LifetimeSetting(), audit.Evidence{Pos: sa.At})
				}
			}
		}
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || s.Shunted() {
			return
		}
		if c := e.Child(s.Child); c != nil && c.Up() != nil {
			old(p, s, c.Up().Age, s.Child.Life.Value, s.Child.Name, s.Child.Life, audit.Evidence{Pos: c.Up().At})
		}
	},
}

func old(p *audit.Pass, s *audit.Subject, age, most time.Duration, what string, set model.Setting[time.Duration], at audit.Evidence) {
	if most == 0 || age <= most {
		return
	}
	f := p.On(s, at.Pos, set.IsDefault())
	f.Message = fmt.Sprintf("%s is %s old; it is configured to end after %s", what, present.Span(age), present.Span(most))
	f.Measured, f.Required = present.Span(age), "at most "+present.Span(most)
	f.Also = []audit.Evidence{{Pos: set.Where(s.Connection.At), Note: "the lifetime"}}
	p.Report(f)
}
