package nat

import (
	"fmt"

	"toril/audit"
	"toril/model/settings"
)

// Rewritten reports where a source translation takes packets out of the tunnel.
var Rewritten = &audit.Check{
	Name:     "nat/rewritten",
	Setting:  settings.NATExemption,
	Title:    "NAT rewrites tunnel traffic before it is encrypted",
	Severity: audit.Critical,
	Why:      "IPsec policy is looked up again after source NAT; the rewritten packets no longer match and leave in the clear.",
	Fix:      "Put a rule before it that exempts the encryption domain, by IPsec policy or by its networks.",
	Effect:   audit.Leaks,
	PartOf: []audit.Part{
		{Of: "nat/rewritten", By: audit.SameLine},
		{Of: "ends/not-mirrored", By: audit.SameExcess},
	},
	Suggest: audit.Rules(audit.ExemptEncrypted),
	Doc: audit.Doc{
		What: "Every packet of the encryption domain is sent through the rules of the postrouting hook, exactly. The check reports " +
			"where some of them meet a source NAT or " +
			"masquerade that no earlier rule of the same chain exempts them from, and shows one such packet.",
		Harm: "The tunnel is up, and its traffic leaves in the clear with the gateway's address, readable for anyone on the path; " +
			"the far end never replies.",
		Write: "In the nat chain, before the masquerade: rt ipsec exists accept. An exemption in another nat chain does not help, as " +
			"accept ends only its own chain. The order " +
			"matters: after the masquerade it is never reached.",
		Sources: []string{"RFC 4301 section 5.1", "nft(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		c, path := s.Child, p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		rewrites, doubts, told := path.Rewrites(pol)
		if !told {
			return
		}
		unread := path.TrafficDoubts(pol)
		for _, r := range rewrites {
			f := p.On(s, r.Rule.At, false)
			example, _ := r.Was.Witness()
			f.Example = example.String()
			f.Message = fmt.Sprintf("%s rewrites tunnel traffic, which then leaves in the clear", r.Rule.Verb)
			if !r.Leaves {
				f.Lower(2)
				f.Means(audit.NoEffect)
				f.Message = fmt.Sprintf(
					"%s rewrites tunnel traffic, which stays in the encryption domain with another source",
					r.Rule.Verb,
				)
				f.Why = "The far end sees another source than the one that sent, and the ESP packets themselves may be rewritten by " +
					"the same rule."
			}
			f.Fix = audit.Sentence(
				"put a rule before it that exempts the encryption domain: "+p.In(audit.ExemptByPolicy, s.Gateway.Name, r.Rule.At),
				"one that names its networks",
			)
			if r.Before != nil {
				f.Message = fmt.Sprintf(
					"%s takes packets that another rule moves onto the networks of %s, and comes first: they leave in the clear",
					r.Rule.Verb,
					c.Name,
				)
				f.Fix = "Put the rule that moves them before it."
				f.Also = append(f.Also, p.Evidence(r.Before.At, "the rule that moves them"))
			}
			f.Rests(r.Doubts, s.SelectorDoubts(), unread)
			f.Also = append(f.Also, audit.Evidence{Pos: c.Remote.Where(c.At), Note: "the remote networks of the child"})
			f.Concerns(r.Was)
			p.Report(f)
		}
		perhaps := p.On(s, c.Remote.Where(c.At), false)
		perhaps.Message = "a source NAT may rewrite tunnel traffic"
		p.Perhaps(perhaps, doubts.And(unread))
	},
}
