package ends

import (
	"fmt"

	"toril/audit"
	"toril/pair"
)

// FarEndUnseen reports where the far end of a tunnel was not given, or where several would do.
var FarEndUnseen = &audit.Check{
	Name:     "ends/far-end-unseen",
	Title:    "The far end was not given",
	Severity: audit.Low,
	Why:      "Nothing can be said about whether both ends agree; findings about this end still hold.",
	Fix:      "Add the far end's saved configuration, or compare with toril mirror what its administrator set.",
	Doc: audit.Doc{
		What: "Connections for which no other in the estate is the far end, by addresses, identities and networks; and " +
			"connections that several others match equally well.",
		Harm:    "Half of all tunnel problems are a difference between the two ends.",
		Write:   "toril mirror GATEWAY/CONNECTION writes what the far end must set.",
		Sources: []string{"RFC 7296"},
	},
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		e := t.Ends[0]
		f := p.On(&audit.Subject{End: e, Tunnel: t}, e.Connection.At, false)
		f.Rests(doubts(t))
		f.Reasons = append(f.Reasons, p.Elsewhere(e.Gateway)...)
		switch {
		case t.Toward != nil:
			return // ends/no-counterpart says it
		case len(t.Ends) < 2:
			f.Lower(1)
			f.Message = fmt.Sprintf("the far end of %s was not given", e.Name())
			if t.Intent != nil && t.Intent.Partner != "" {
				f.Message += fmt.Sprintf(": it is %s's", t.Intent.Partner)
			}
		case len(t.Doubts) > 0:
			f.Message = "the far end may be another: " + t.Doubts[0]
		default:
			return
		}
		p.Report(f)
	},
}
