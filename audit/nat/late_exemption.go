package nat

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// LateExemption reports where an exemption stands behind the rule that translates.
var LateExemption = &audit.Check{
	Name:     "nat/late-exemption",
	Title:    "The NAT exemption comes after the rule that translates",
	Severity: audit.High,
	Why:      "In a nat chain the first matching rule wins; the exemption is never reached.",
	Fix:      "Move the exemption before the translation.",
	PartOf: []audit.Part{
		{Of: "nat/late-exemption", By: audit.SameLine},
		{Of: "nat/rewritten", By: audit.SameChild},
	},
	Suggest: audit.Rules(audit.ExemptEncrypted),
	Doc: audit.Doc{
		What: "Rules of a source NAT chain that would exempt packets of an encryption domain, all of which an earlier rule of the " +
			"chain translates.",
		Harm:    "The rule is there, so everyone believes in the exemption, and the traffic still leaves in the clear.",
		Write:   "ip daddr 10.2.0.0/16 accept before oifname \"wan0\" masquerade.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		path := p.Walk(g)
		domains := make([]packet.Set, len(path.Policies))
		for i, pol := range path.Policies {
			domains[i] = path.Traffic(pol)
		}
		index := packet.NewIndex(domains)
		for _, c := range postrouting(g) {
			for i, r := range c.Rules {
				if !exempts(r) || r.When.Empty() || everything(r) {
					continue
				}
				for _, k := range index.Meeting(r.When.OnTheWire()) {
					pol, mine := path.Policies[k], domains[k].And(r.When.OnTheWire())
					if mine.Empty() {
						continue
					}
					for _, earlier := range path.Filter().Asked(c, mine) {
						if earlier.Index >= i {
							break
						}
						if earlier.Verb.Translates() && earlier.Certain() && earlier.When.OnTheWire().Contains(mine.OnTheWire()) &&
							!earlier.When.And(walk.Peered(packet.PeerOut, pol.Peer)).Empty() {
							f := audit.Finding{
								Gateway:    g.Name,
								Connection: pol.Connection.Name,
								Child:      pol.Child.Name,
								At:         audit.Evidence{Pos: r.At},
							}
							f.Message = fmt.Sprintf(
								"this exemption for %s is never reached: an earlier rule translates its packets",
								pol.Child.Name,
							)
							f.Also = []audit.Evidence{{Pos: earlier.At, Note: "the rule that translates"}}
							f.Rests(r.Doubts)
							p.Report(f)
							break
						}
					}
				}
			}
		}
	},
}
