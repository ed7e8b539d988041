package access

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// NoLog reports where new connections of a tunnel are accepted and nothing is logged.
var NoLog = &audit.Check{
	Name:     "access/no-log",
	Title:    "Connections of a tunnel are accepted without a log",
	Severity: audit.Info,
	Why:      "Afterwards there is no record of what came through the tunnel.",
	Fix:      "Log new connections in the rule that accepts them, or before it.",
	PartOf: []audit.Part{
		{Of: "access/no-log", By: audit.SameLine},
		{Of: "access/any-from-tunnel", By: audit.SameLine},
		{Of: "access/blanket", By: audit.SameLine},
		{Of: "access/beyond-intent", By: audit.SameLine},
	},
	Suggest: audit.Rules(audit.LogAccepted),
	Doc: audit.Doc{
		What: "The rules that accept new connections which come out of a tunnel to another gateway: the check reports where none " +
			"of those that the packets meet logs.",
		Harm:    "After an incident at a partner nobody can tell what was reached through the tunnel.",
		Write:   "ct state new log prefix \"from-partner \" accept",
		Sources: []string{"NIST SP 800-41 Rev. 1 section 5", "NIST SP 800-77 Rev. 1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		_, inner := path.Inbound(pol, pol.Back())
		passed, _ := filtered(inner)
		for _, o := range passed {
			logged, rule := false, (*model.Rule)(nil)
			for _, st := range o.Steps {
				if st.Rule == nil {
					continue
				}
				logged = logged || st.Rule.Log
				if st.Rule.Verb == model.Accept && st.Stage == "forward" {
					rule = st.Rule
				}
			}
			if logged || rule == nil || path.Logs(o.Now) {
				continue
			}
			f := p.On(s, rule.At, false)
			f.Rests(o.Doubts, s.Gateway.FilterDoubts())
			f.Message = fmt.Sprintf("the rule accepts new connections out of %s, and no rule logs them", s.Child.Name)
			p.Report(f)
			return
		}
	},
}
