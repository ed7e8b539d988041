package ike

import (
	"slices"

	"toril/audit"
	"toril/model"
)

// Refused reports where the daemon would not load the connection at all.
var Refused = &audit.Check{
	Name:     "ike/refused",
	Title:    "The daemon refuses the connection",
	Severity: audit.High,
	Why:      "The connection is not loaded: it never initiates, and as responder the peer is told NO_PROPOSAL_CHOSEN.",
	Fix:      "Correct the value; after loading, read the daemon's answer, which also keeps an older version of the connection in use.",
	Effect:   audit.Stops,
	Doc: audit.Doc{
		What: "A value of the connection is one that its daemon does not accept: an unknown algorithm, a cipher without integrity, a " +
			"proposal without a key exchange, a number " +
			"that is none.",
		Harm: "The whole connection is dropped for one wrong word. Where an older version was loaded it stays in use, and the " +
			"file and the gateway differ from then on.",
		Write:   "A value from the daemon's documentation.",
		Sources: []string{"swanctl.conf(5)"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		alone := func(r model.Refusal) bool { return r.Error == s.Connection.Unusable }
		if e := s.Connection.Unusable; e != nil && !slices.ContainsFunc(s.Gateway.Refused, alone) { // with all others: read/refused
			f := p.On(s, e.Pos, false)
			f.Message = "the daemon refuses the whole connection: " + e.Message
			p.Report(f)
		}
	},
}
