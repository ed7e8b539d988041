package observed

import (
	"slices"

	"toril/audit"
	"toril/model"
	"toril/observe"
)

// NotUp reports where a child is configured and was not up when the status of its gateway was saved.
var NotUp = &audit.Check{
	Name:     "observed/not-up",
	Title:    "A child SA is configured and was not up",
	Severity: audit.High,
	Symptom:  true,
	Why:      "What the child is for does not pass, or passes in the clear.",
	Fix:      "Read why the negotiation fails in the daemon's log; load the configuration again, and initiate the child by hand.",
	PartOf:   append(parts(audit.SameTunnel, negotiated...), parts(audit.SameChild, "observed/not-loaded")...),
	Doc: audit.Doc{
		What: "Every child of a gateway whose status was saved with a list of all its SAs. A child that is set up by traffic " +
			"counts less, " +
			"as there may have been none; one that both ends wait with is not spoken of unless its negotiation failed.",
		Harm:    "The tunnel is believed to protect what it does not carry.",
		Write:   "swanctl --load-all, then swanctl --initiate --child NAME; the log says which notify ended it.",
		Sources: sources,
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() {
			return
		}
		e, ok := seen(s)
		if !ok || e.Listed.IsZero() {
			return
		}
		c := e.Child(s.Child)
		if c == nil || c.Up() != nil {
			return
		}
		failed := slices.DeleteFunc(
			slices.Clone(e.Failures),
			func(f *model.Failure) bool { return f.Child != "" && f.Child != s.Child.Name },
		)
		f := p.On(s, s.Child.At, false)
		f.Message = s.Child.Name + " was not up when the status was saved"
		f.Also = []audit.Evidence{{Pos: e.Listed, Note: "the list of SAs"}}
		switch {
		case len(failed) > 0:
			last := failed[len(failed)-1]
			f.Message += ": " + observe.FailureText(last)
			f.Also = append(f.Also, audit.Evidence{Pos: last.At, Note: "the log"})
		case begins(s):
		case s.Child.Start.Value == model.StartTraffic || farTraps(s):
			f.Lower(2)
			f.Message += "; it is set up by traffic, and there may have been none"
		default:
			return
		}
		if s.Connection.Unusable != nil {
			f.Blame(s.Connection.Unusable.Pos)
		}
		p.Report(f)
	},
}

// begins reports whether either end sets the child up by itself.
func begins(s *audit.Subject) bool {
	boots := func(k *model.Child) bool { return k.Start.Value == model.StartBoot || k.Start.Value == model.StartBoth }
	return boots(s.Child) || slices.ContainsFunc(s.Tunnel.Counterparts(s.Child), boots)
}

func farTraps(s *audit.Subject) bool {
	return slices.ContainsFunc(s.Tunnel.Counterparts(s.Child), func(k *model.Child) bool { return k.Start.Value.Traps() })
}
