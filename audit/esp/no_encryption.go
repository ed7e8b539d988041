package esp

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model/settings"
)

// NoEncryption reports where a child may carry its packets readable.
var NoEncryption = &audit.Check{
	Name:     "esp/no-encryption",
	Setting:  settings.ChildProposals.Row,
	Title:    "The tunnel does not encrypt",
	Severity: audit.Critical,
	Why:      "Anyone on the path can read every packet.",
	Fix:      "Offer a cipher, for example AES-GCM with 256 bits, and no proposal without one.",
	Effect:   audit.Leaks,
	PartOf: []audit.Part{
		{Of: "esp/no-encryption", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What:    "A proposal of the child offers ENCR_NULL or AES-GMAC: packets are protected against changes but readable.",
		Harm:    "The tunnel is up, its counters rise, and all that passes can be read.",
		Sources: []string{"RFC 2410", "RFC 4543", "RFC 8221 section 5"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.Protocol.Value != ike.ESP {
			return
		}
		set := s.Child.Proposals
		all := ike.All(set.Value, ike.Encryption)
		i := slices.IndexFunc(all, func(c ike.Choice) bool { return !hides(c) })
		if i < 0 {
			return
		}
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.Message = fmt.Sprintf("ESP offers %s", all[i])
		if i > 0 || len(all) > 1 {
			f.Lower(1)
			f.Message += " beside ciphers"
		}
		p.Report(f)
	},
}
