package ends

import (
	"fmt"
	"strings"

	"toril/audit"
	"toril/negotiate"
	"toril/pair"
	"toril/present"
)

// PFSDiffers reports where a child comes up and its keys cannot be renewed, or where it does not come up for that.
var PFSDiffers = &audit.Check{
	Name:     "ends/pfs-differs",
	Title:    "Perfect forward secrecy differs: rekeying fails",
	Severity: audit.High,
	Why: "Under IKEv2 the first child SA is set up without a key exchange of its own, so the difference shows only at the first " +
		"rekey, and at every one after it.",
	Fix:     "Configure the same group in the child's proposals on both ends.",
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What: "The rekeying of every child is negotiated for either end as initiator. With IKEv2 a missing or different group lets " +
			"the tunnel come up, carry traffic, and fail at the first rekey; " +
			"the child is closed at its hard lifetime and stays down until the IKE SA itself is set up again. With IKEv1 it fails at once.",
		Harm:    "The tunnel is tested and handed over, and fails an hour later; after a restart it works again for an hour.",
		Write:   "esp_proposals = aes256gcm16-ecp384 on both.",
		Sources: []string{"RFC 7296 sections 1.2 and 1.3.1", "RFC 2409 section 5.5"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		failing(negotiate.PFS)(p, t)
		for _, a := range p.Attempts(t) {
			for _, c := range a.Children {
				r := c.Rekey
				if c.Outcome != negotiate.Agrees || r.Outcome == negotiate.Never ||
					r.ByInitiator == negotiate.Agrees && r.ByResponder == negotiate.Agrees {
					continue
				}
				if r.Failure == nil { // it fails only if the other end is the first to renew
					r.Failure = &negotiate.Failure{
						Step:    negotiate.Create,
						Why:     fmt.Sprintf("rekeying %s fails when initiated by the end whose timer is not the first", c.Of.Name),
						Changes: []string{"configure the same proposals on both ends"},
					}
					r.Failure.Lines[0], r.Failure.Lines[1] = c.Of.Proposals.Where(c.Of.At), c.With.Proposals.Where(c.With.At)
				}
				f := of(p, t, a, r.Failure)
				f.Child = c.Of.Name
				if r.Outcome == negotiate.Agrees {
					f.Lower(2)
				} else {
					f.Message = fmt.Sprintf("the tunnel comes up and fails within %s, when %s rekeys %s", present.Span(r.After), r.By,
						c.Of.Name)
					if r.Ends > 0 {
						f.Message += fmt.Sprintf("; the child SA expires after %s", present.Span(r.Ends))
					}
					f.Message += ". " + strings.ToUpper(r.Failure.Why[:1]) + r.Failure.Why[1:]
				}
				f.Rests(a.Doubts)
				p.Report(f)
				return
			}
		}
	},
}
