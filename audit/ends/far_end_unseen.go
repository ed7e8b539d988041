package ends

import (
	"fmt"

	"toril/audit"
	"toril/estate"
)

// FarEndUnseen speaks where the far end of a tunnel was not given, or where several would do.
var FarEndUnseen = &audit.Check{
	Name:     "ends/far-end-unseen",
	Title:    "The far end was not given",
	Severity: audit.Info,
	Why:      "Nothing can be said about whether both ends agree; what is said about this end holds all the same.",
	Mend:     "Add the far end's saved configuration, or compare with toril mirror what its administrator set.",
	Doc: audit.Doc{
		What:    "Connections for which no other in the estate is the far end, by addresses, identities and networks; and connections that several others fit just as well.",
		Harm:    "Half of what goes wrong with tunnels is a difference between two ends.",
		Write:   "toril mirror GATEWAY/CONNECTION writes what the far end must set.",
		Sources: []string{"RFC 7296"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		e := t.Ends[0]
		f := p.On(&audit.Subject{End: e, Tunnel: t}, e.Connection.At, false)
		switch {
		case t.Toward != nil:
			return // ends/no-counterpart says it
		case len(t.Ends) < 2:
			f.Message = fmt.Sprintf("the far end of %s was not given", e.Name())
			if t.Intent != nil && t.Intent.Partner != "" {
				f.Message += fmt.Sprintf(": it is %s's", t.Intent.Partner)
			}
		case len(t.Doubts) > 0:
			f.Severity = audit.Low
			f.Message = "the far end may be another: " + t.Doubts[0]
		default:
			return
		}
		p.Report(f)
	},
}
