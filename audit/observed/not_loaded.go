package observed

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/observe"
	"toril/present"
	"toril/source"
)

// NotLoaded reports where the daemon has not loaded what the file says.
var NotLoaded = &audit.Check{
	Name:     "observed/not-loaded",
	Title:    "The daemon has not loaded what is configured",
	Severity: audit.Medium,
	Why:      "The file is newer than the daemon's state: what it says holds only after it is loaded, at the latest after a restart.",
	Fix:      "Load the configuration: swanctl --load-all, ipsec reload, or ipsec auto --replace NAME.",
	PartOf:   parts(audit.SameEnd, "ike/refused", "observed/not-loaded"),
	Doc: audit.Doc{
		What: "Every connection and child of a gateway whose list of loaded connections was saved: whether it is there, with " +
			"the selectors " +
			"and the rekey time of the file.",
		Harm: "A change that was tested in the file is not what runs; a restart, weeks later, brings it into force when nobody " +
			"expects it.",
		Write:   "swanctl --load-all",
		Sources: []string{"swanctl(8)"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || e.Lists.IsZero() {
			return
		}
		if e.Loaded == nil {
			f := p.On(s, s.Connection.At, false)
			f.Message = s.Connection.Name + " is configured, and the daemon has not loaded it"
			f.Also = []audit.Evidence{{Pos: e.Lists, Note: "the list of loaded connections"}}
			if s.Connection.Unusable != nil {
				f.Message += ": it refuses the connection"
			}
			p.Report(f)
			return
		}
		other(p, s, e.Loaded.At, "the IKE SA", e.Loaded.Rekey, s.Connection.Lifetime(), s.Connection.LifetimeSetting())
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || e.Loaded == nil || s.Shunted() {
			return
		}
		c := e.Child(s.Child)
		if c.Loaded == nil {
			f := p.On(s, s.Child.At, false)
			f.Message = s.Child.Name + " is configured, and the daemon has not loaded it"
			f.Also = []audit.Evidence{{Pos: e.Loaded.At, Note: "the connection as it is loaded"}}
			p.Report(f)
			return
		}
		local, remote := s.Child.Local.Value, s.Child.Remote.Value
		if !same(local, c.Loaded.Local) || !same(remote, c.Loaded.Remote) {
			f := p.On(s, s.Child.Local.Where(s.Child.At), false)
			f.Message = fmt.Sprintf("%s is configured for %s to %s, and loaded for %s to %s", s.Child.Name, local, remote,
				c.Loaded.Local, c.Loaded.Remote)
			f.Also = []audit.Evidence{{Pos: c.Loaded.At, Note: "the child as it is loaded"}}
			p.Report(f)
		}
		other(p, s, c.Loaded.At, s.Child.Name, c.Loaded.Rekey, s.Child.Rekey.Value, s.Child.Rekey)
	},
}

// same compares selectors as configured and as loaded; where either depends on addresses, it does not tell.
func same(a, b ike.Selectors) bool {
	return a.Dynamic() || b.Dynamic() || len(a) == 0 || len(b) == 0 || observe.Same(a, b)
}

// other reports a time that is loaded otherwise than configured.
func other(
	p *audit.Pass,
	s *audit.Subject,
	at source.Pos,
	what string,
	loaded, configured time.Duration,
	set model.Setting[time.Duration],
) {
	if loaded < 0 || loaded == configured || set.IsDefault() {
		return
	}
	f := p.On(s, set.Where(s.Connection.At), false)
	f.About = what + " rekey"
	f.Message = fmt.Sprintf(
		"%s is configured to rekey after %s, and loaded with %s",
		what,
		present.Span(configured),
		present.Span(loaded),
	)
	f.Also = []audit.Evidence{{Pos: at, Note: "as it is loaded"}}
	p.Report(f)
}
