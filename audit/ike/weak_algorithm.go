package ike

import (
	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model/settings"
)

// Weak reports where the preferred, or the only, algorithm of a type is one that the baseline advises against.
var Weak = &audit.Check{
	Name:     "ike/weak-algorithm",
	Setting:  settings.IKEProposals.Row,
	Title:    "IKE prefers a weak algorithm",
	Severity: audit.High,
	Why:      "Breaking the IKE SA exposes the keys of every child SA that it sets up.",
	Fix:      "Offer strong algorithms only, for example AES-GCM with 256 bits, PRF HMAC-SHA2-384 and group 20 (NIST P-384), on both ends.",
	PartOf: []audit.Part{
		{Of: "ike/weak-algorithm", By: audit.SameWeak},
		{Of: "ends/weaker-than-possible", By: audit.SameIKE},
	},
	Suggest: audit.Advice{Sets: audit.StrongIKE}.WithFar(),
	Doc: audit.Doc{
		What: "Every algorithm in the proposals of the IKE SA (cipher, integrity, PRF, key exchange) is looked up in the baseline. " +
			"The check reports once per setting, " +
			"naming all weak algorithms in it, where a weak one is preferred or no strong one of its type is offered. Weak ones that " +
			"only stand beside preferred " +
			"strong ones are reported by ike/downgrade.",
		Harm: "A 64-bit block cipher leaks plain text after some gigabytes; a 1024-bit group can be broken ahead of time for " +
			"everyone who uses it, and then every " +
			"recorded session opens; a broken hash lets an attacker in the path forge what both ends agree on.",
		Write: "One or two proposals that both ends know, strong in every part. In swanctl.conf: proposals = " +
			"aes256gcm16-prfsha384-ecp384. Change the far end at the " +
			"same time: a proposal that only one end has is no proposal.",
		Sources: []string{"RFC 8247 section 2", "NIST SP 800-57 Part 1", "RFC 7296 section 3.3"},
		Demands: []string{baseline.Algorithms},
	},
	Requires: audit.Negotiation,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		set := s.Connection.Proposals
		j := audit.Judge(s.Baseline, set.Value, algo.IKE, ikeTypes...)
		if len(j.Weak) == 0 || !j.Preferred {
			return
		}
		f := p.On(s, set.Where(s.Connection.At), set.IsDefault())
		f.Judged(j, s.Connection.Parts)
		f.Message = "the IKE proposals prefer " + j.Names() + audit.ByDefault(set)
		audit.Exposure(&f, s, j)
		p.Report(f)
	},
}
