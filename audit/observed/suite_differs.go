package observed

import (
	"toril/audit"
	"toril/ike"
	"toril/observe"
	"toril/source"
)

// SuiteDiffers reports where an SA is protected by another suite than the configurations would agree on.
var SuiteDiffers = &audit.Check{
	Name:     "observed/suite-differs",
	Title:    "An SA is up with another suite than configured",
	Severity: audit.Medium,
	Symptom:  true,
	Why: "The daemon works by another configuration than the saved one: what is judged here is not what runs. Usually the file was " +
		"changed and not loaded, or the SA is older than the change.",
	Fix:    "Load the configuration, and set the connection up again; or save the configuration that runs.",
	PartOf: append(parts(audit.SameChild, "observed/not-loaded"), audit.Part{Of: "observed/suite-differs", By: audit.SameTunnel}),
	Doc: audit.Doc{
		What: "The suite of every IKE and child SA that was seen, against the suites that either initiator is predicted to " +
			"reach; where the " +
			"far end was not given, against the proposals of the near one.",
		Harm:    "An audit of the file says nothing of the tunnel that runs.",
		Write:   "swanctl --load-all, then swanctl --terminate --ike NAME and --initiate --child CHILD.",
		Sources: []string{"RFC 7296 section 2.7"},
	},
	Requires: audit.Negotiation,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok {
			return
		}
		for _, sa := range e.IKE {
			if !sa.Up || !sa.Suite.Valid() {
				continue
			}
			predicted := observe.Predicted(p.Attempts(s.Tunnel))
			differs(p, s, sa.At, s.Connection.Proposals.Where(s.Connection.At), "the IKE SA", sa.Suite, predicted,
				observe.Offered(sa.Suite, s.Connection.Proposals.Value), s.Connection.Proposals.Value)
		}
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || s.Shunted() {
			return
		}
		c := e.Child(s.Child)
		if c == nil || c.Up() == nil || !c.Up().Suite.Valid() {
			return
		}
		sa := c.Up()
		predicted := observe.PredictedChild(p.Attempts(s.Tunnel), s.Child)
		differs(p, s, sa.At, s.Child.Proposals.Where(s.Child.At), s.Child.Name, sa.Suite, predicted,
			observe.Offered(sa.Suite, s.Child.Proposals.Value), s.Child.Proposals.Value)
	},
}

// differs reports a suite that is neither predicted nor, where nothing is predicted, offered.
func differs(
	p *audit.Pass,
	s *audit.Subject,
	at, configured source.Pos,
	what string,
	seen ike.Suite,
	predicted []ike.Suite,
	offered bool,
	own []ike.Proposal,
) {
	if len(predicted) > 0 && observe.Fits(seen, predicted) || len(predicted) == 0 && (offered || len(own) == 0) {
		return
	}
	f := p.On(s, at, false)
	f.Message = what + " is protected by " + seen.String()
	if len(predicted) > 0 {
		f.Message += "; by the files it would be " + names(predicted)
	} else {
		f.Message += ", which its proposals do not offer"
	}
	f.Also = []audit.Evidence{{Pos: configured, Note: "the proposals as configured"}}
	p.Report(f)
}
