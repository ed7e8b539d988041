package ends

import (
	"fmt"
	"strings"

	"toril/audit"
	"toril/negotiate"
	"toril/pair"
	"toril/present"
)

// IKERekeyFails reports where the IKE SA comes up and cannot be renewed.
var IKERekeyFails = &audit.Check{
	Name:     "ends/ike-rekey-fails",
	Title:    "The IKE SA comes up and cannot be rekeyed",
	Severity: audit.High,
	Why:      "Nothing shows it before the first rekey of the IKE SA, hours after the tunnel was tested.",
	Fix:      "Have both ends agree on the first IKE proposal of the end that initiates.",
	Doc: audit.Doc{
		What: "The rekeying of the IKE SA is predicted for either end, as the daemons of both do it. OpenIKED sends the proposal that " +
			"was chosen under its old number; Libreswan takes a first proposal of number 1 alone.",
		Harm:    "The IKE SA is not renewed: it is closed at the end of its lifetime, and all child SAs with it.",
		Write:   "A single IKE proposal on the end that runs OpenIKED.",
		Sources: []string{"RFC 7296 sections 2.8 and 3.3.1", "docs/daemons/openiked.md"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		for _, a := range p.Attempts(t) {
			r := a.Rekey
			if a.Failure != nil || r.Failure == nil {
				continue
			}
			f := of(p, t, a, r.Failure)
			if r.Outcome == negotiate.Fails {
				f.Message = fmt.Sprintf("the tunnel comes up, and rekeying the IKE SA fails within %s. %s", present.Span(r.After),
					strings.ToUpper(f.Message[:1])+f.Message[1:])
			} else {
				f.Lower(2)
				f.Message = "rekeying the IKE SA fails when initiated by the end whose timer is not the first: " + f.Message
			}
			f.Rests(a.Doubts)
			p.Report(f)
			return
		}
	},
}
