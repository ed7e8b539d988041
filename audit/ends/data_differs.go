package ends

import (
	"toril/audit"
	"toril/negotiate"
	"toril/pair"
)

// DataDiffers reports where a child comes up and the two ends protect packets differently.
var DataDiffers = &audit.Check{
	Name:     "ends/data-differs",
	Title:    "The child comes up and no packet is accepted",
	Severity: audit.High,
	Why:      "Negotiation does not reveal it: both ends report the child as installed, and each drops the other's packets.",
	Fix:      "Set the same on both ends, or use a combined cipher, which has no truncated hash.",
	Doc: audit.Doc{
		What: "Properties of a child that are not negotiated and must be the same on both ends: the truncation of HMAC-SHA2-256 " +
			"to 96 or 128 bits, and the mode where IKEv1 leaves it open.",
		Harm:    "Counters rise on the sending side only, the log is silent, and both administrators see an established tunnel.",
		Write:   "Remove sha256_96 = yes (sha2-truncbug=yes) on both ends, or use aes256gcm16.",
		Sources: []string{"RFC 4868 section 2.3"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		for _, a := range p.Attempts(t) {
			for _, c := range a.Children {
				if c.Failure != nil || c.Broken == "" || c.BrokenBy == negotiate.Selectors { // which ends/not-mirrored says
					continue
				}
				at, other, end, far := c.BrokenAt[0], c.BrokenAt[1], a.Initiator, a.Responder
				if at == c.Of.At {
					at, other, end, far = other, at, far, end
				}
				f := p.On(&audit.Subject{End: end, Tunnel: t}, at, false)
				f.Child, f.Message = c.Of.Name, c.Broken
				f.Rests(a.Doubts)
				f.Also = []audit.Evidence{{Pos: other, Note: "what " + far.Name() + " says"}}
				p.Report(f)
				return
			}
		}
	},
}
