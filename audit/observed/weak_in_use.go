package observed

import (
	"toril/audit"
	"toril/ike"
)

// WeakInUse reports where an SA that was up is protected by weak algorithms.
var WeakInUse = &audit.Check{
	Name:     "observed/weak-in-use",
	Title:    "A weak algorithm is in use",
	Severity: audit.High,
	Symptom:  true,
	Why:      "This is not what might be negotiated, but what was: the traffic of this SA has no better protection.",
	Fix: "Put a strong suite first on both ends, remove the weak algorithms, load the configuration and set the " +
		"connection up again.",
	PartOf: []audit.Part{
		{Of: "ike/weak-algorithm", By: audit.SameWeak},
		{Of: "ike/downgrade", By: audit.SameWeak},
		{Of: "esp/weak-algorithm", By: audit.SameWeak},
		{Of: "esp/downgrade", By: audit.SameWeak},
		{Of: "esp/no-encryption", By: audit.SameChild},
		{Of: "esp/no-integrity", By: audit.SameChild},
		{Of: "pfs/weak-group", By: audit.SameWeak},
		{Of: "observed/weak-in-use", By: audit.SameWeak},
	},
	Doc: audit.Doc{
		What: "The suite of every IKE and child SA that was seen, judged by the baseline. Where such an algorithm is offered " +
			"beside strong " +
			"ones, its use also raises the severity of what offers it.",
		Harm:    "Recorded traffic can be read, or forged, as soon as the algorithm is broken.",
		Write:   "proposals = aes256gcm16-prfsha384-ecp384 and esp_proposals = aes256gcm16-ecp384.",
		Sources: []string{"RFC 8247 section 2", "RFC 8221 section 5"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		if e, ok := seen(s); ok {
			for _, sa := range e.IKE {
				if sa.Up {
					inUse(p, s, sa.Suite, audit.Evidence{Pos: sa.At}, "the IKE SA")
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
			inUse(p, s, c.Up().Suite, audit.Evidence{Pos: c.Up().At}, s.Child.Name)
		}
	},
}

func inUse(p *audit.Pass, s *audit.Subject, suite ike.Suite, at audit.Evidence, what string) {
	if !suite.Valid() {
		return
	}
	j := weakIn(s, suite)
	if len(j.Weak) == 0 {
		return
	}
	f := p.On(s, at.Pos, false)
	j.Preferred = true
	f.Judged(j, nil)
	f.Message = what + " is protected by " + j.Names()
	p.Report(f)
}
