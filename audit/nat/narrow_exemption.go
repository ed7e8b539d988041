package nat

import (
	"fmt"

	"toril/audit"
)

// NarrowExemption reports where an exemption covers a part of a domain only.
var NarrowExemption = &audit.Check{
	Name:     "nat/narrow-exemption",
	Title:    "The NAT exemption covers only part of the encryption domain",
	Severity: audit.High,
	Why: "The rest of the domain is translated and leaves in the clear: some hosts or networks work through the tunnel, others " +
		"do not.",
	Fix: "Exempt by IPsec policy, or widen it to every network of the child.",
	PartOf: []audit.Part{
		{Of: "nat/narrow-exemption", By: audit.SameLine},
		{Of: "nat/rewritten", By: audit.SameChild},
	},
	Suggest: audit.Rules(audit.ExemptEncrypted),
	Doc: audit.Doc{
		What:    "Children of which some packets pass source NAT untouched by an exemption, and others are translated.",
		Harm:    "One subnet was added to the tunnel and forgotten in the exemption; its packets go out to the Internet.",
		Write:   "ip saddr { 10.1.0.0/24, 10.1.9.0/24 } ip daddr 10.2.0.0/16 accept",
		Sources: []string{"nft(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		c, path := s.Child, p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		rewrites, _, ok := path.Rewrites(pol)
		if !ok || len(rewrites) == 0 {
			return
		}
		domain := path.Traffic(pol).OnTheWire()
		for _, chain := range postrouting(s.Gateway) {
			for _, r := range path.Filter().Asked(chain, domain) {
				if !exempts(r) || !r.Certain() {
					continue
				}
				part := domain.And(r.When.OnTheWire())
				if part.Minus(ofTunnels()).Empty() || part.Equal(domain) {
					continue
				}
				for _, w := range rewrites {
					lost := w.Was.OnTheWire().Minus(part)
					if lost.Empty() || !w.Doubts.Certain() || w.Rule.Index < r.Index && w.Rule.Of == chain {
						continue
					}
					f := p.On(s, r.At, false)
					example, _ := lost.Witness()
					f.Example = example.String()
					f.Message = fmt.Sprintf("the exemption covers %s, and not the rest of %s", part, c.Name)
					f.Also = []audit.Evidence{
						{Pos: w.Rule.At, Note: "the rule that translates the rest"},
						{Pos: c.Local.Where(c.Remote.Where(c.At)), Note: "the networks of the child"},
					}
					f.Fix = audit.Sentence(
						"exempt by IPsec policy: "+p.In(audit.ExemptByPolicy, s.Gateway.Name, r.At),
						"widen it to every network of the child",
					)
					f.Rests(s.SelectorDoubts(), path.TrafficDoubts(pol))
					p.Report(f)
					return
				}
			}
		}
	},
}
