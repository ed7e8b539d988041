package esp

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model/settings"
)

// NoIntegrity reports where a cipher is not joined by anything that notices changes.
var NoIntegrity = &audit.Check{
	Name:     "esp/no-integrity",
	Setting:  settings.ChildProposals.Row,
	Title:    "The tunnel does not protect integrity",
	Severity: audit.High,
	Why:      "A cipher alone does not notice changed packets, and attacks that change them read the content in the end.",
	Fix:      "Use a combined cipher (AES-GCM), or add an integrity algorithm (HMAC-SHA2-256).",
	PartOf: []audit.Part{
		{Of: "esp/no-integrity", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What:    "A proposal of the child has a cipher that does not protect integrity, and no integrity algorithm.",
		Harm:    "Anyone who can change packets on the path can flip bits in them and recover their content from how the far end reacts.",
		Write:   "A combined cipher, or a cipher with an integrity algorithm beside it: aes256-sha256-ecp384.",
		Sources: []string{"RFC 8221 section 4", "RFC 4303 section 3.2"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() {
			return
		}
		set, ah := s.Child.Proposals, s.Child.Protocol.Value == ike.AH
		for _, pr := range set.Value {
			none := slices.ContainsFunc(pr.Transforms[ike.Integrity], func(c ike.Choice) bool { return c.ID == 0 })
			if !ah && pr.Combined() || len(pr.Transforms[ike.Integrity]) > 0 && !none {
				continue
			}
			f := p.On(s, set.Where(s.Child.At), set.IsDefault())
			f.Standard = "MUST NOT by RFC 8221 section 4"
			f.Message = fmt.Sprintf("ESP offers %s without integrity", pr.Transforms[ike.Encryption].Labels())
			if ah {
				f.Message = "AH is offered without an integrity algorithm, so it protects nothing"
			}
			p.Report(f)
			return
		}
	},
}

func types(protocol ike.Protocol) []ike.Registry {
	if protocol == ike.AH {
		return []ike.Registry{ike.Integrity}
	}
	return []ike.Registry{ike.Encryption, ike.Integrity}
}

// judge judges a child's cipher and integrity, without ciphers that hide nothing: those have a check of their own.
func judge(s *audit.Subject) audit.Judged {
	j := audit.Judge(s.Baseline, s.Child.Proposals.Value, s.Child.Protocol.Value, types(s.Child.Protocol.Value)...)
	j.Weak = slices.DeleteFunc(j.Weak, func(w audit.Weak) bool {
		return w.Registry == ike.Encryption && !hides(w.Choice) || w.Registry == ike.Integrity && w.ID == 0
	})
	return j
}
