package ends

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
	"toril/source"
)

// WeakerThanPossible reports where the negotiated suite is weaker than the best that both ends have.
var WeakerThanPossible = &audit.Check{
	Name:     "ends/weaker-than-possible",
	Title:    "A weaker suite is negotiated than both ends support",
	Severity: audit.Medium,
	Why:      "Order decides: the responder takes the first of its own proposals that matches, not the strongest.",
	Fix:      "Remove the weak proposals on both ends; as long as one must stay, put the strong one first on both.",
	Suggest:  audit.Advice{Sets: audit.Strong}.WithFar(),
	Doc: audit.Doc{
		What: "For either initiator, the suite that is chosen for the IKE SA and for every child is compared with the strongest " +
			"that both ends have in common, in bits (NIST SP 800-57).",
		Harm:    "Both administrators wrote AES-256 and 3DES, and 3DES is what runs.",
		Write:   "proposals = aes256gcm16-prfsha384-ecp384 alone.",
		Sources: []string{"RFC 7296 section 2.7", "NIST SP 800-57 part 1"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		for _, a := range p.Attempts(t) {
			if a.Failure != nil {
				continue
			}
			report := func(child *model.Child, what string, chosen ike.Suite, mine, theirs []ike.Proposal, at, other source.Pos) {
				best := strongest(mine, theirs)
				if chosen.Strength() >= 128 ||
					best.Strength() <= chosen.Strength() { // between strong suites the order is a matter of taste
					return
				}
				f := p.On(&audit.Subject{End: a.Responder, Tunnel: t, Child: child}, other, false)
				f.Rests(a.Doubts)
				f.Also = []audit.Evidence{{Pos: at, Note: "what " + a.Initiator.Name() + " offers"}}
				f.Message = fmt.Sprintf(
					"%s: when %s initiates, %s chooses %s (%d bits) although both support %s (%d bits)",
					what,
					a.Initiator.Gateway.Name,
					a.Responder.Gateway.Name,
					chosen,
					chosen.Strength(),
					best,
					best.Strength(),
				)
				p.Report(f)
			}
			i, r := a.Initiator.Connection, a.Responder.Connection
			offer := i.Proposals.Value
			if a.Version == ike.V1 {
				offer = ike.OfferV1(offer)
			}
			report(nil, "IKE SA", a.IKE, offer, r.Proposals.Value, i.Proposals.Where(i.At), r.Proposals.Where(r.At))
			for _, c := range a.Children {
				if c.Outcome == negotiate.Agrees && a.Version == ike.V2 {
					report(
						c.With,
						"child "+c.Of.Name,
						c.Suite,
						ike.WithoutKeyExchange(c.Of.Proposals.Value),
						ike.WithoutKeyExchange(c.With.Proposals.Value),
						c.Of.Proposals.Where(c.Of.At),
						c.With.Proposals.Where(c.With.At),
					)
				}
			}
		}
	},
}
