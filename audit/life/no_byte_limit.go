package life

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/baseline"
	"toril/ike"
	"toril/model/settings"
)

// NoByteLimit reports where a 64-bit block cipher has no limit of volume.
var NoByteLimit = &audit.Check{
	Name:     "life/no-byte-limit",
	Setting:  settings.ChildLifetimeBytes.Row,
	Title:    "64-bit block cipher without a limit of volume",
	Severity: audit.High,
	Why:      "With blocks of 64 bits, equal blocks appear long before the lifetime ends, and each pair reveals plain text.",
	Fix:      "Use a cipher with 128-bit blocks; until then, limit the volume.",
	PartOf: []audit.Part{
		{Of: "life/no-byte-limit", By: audit.SameChildren},
		{Of: "esp/weak-algorithm", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.StrongChild}.WithFar(),
	Doc: audit.Doc{
		What: "A child may use a cipher with 64-bit blocks (3DES, Blowfish, CAST, IDEA, DES), and no limit of volume, or one above " +
			"the baseline's, ends its keys.",
		Harm: "The birthday bound is 2^32 blocks, 32 GiB: there the first collision is more likely than not. One in a thousand is " +
			"reached at about one GiB, minutes on a fast link; " +
			"each collision gives the XOR of two plain-text blocks.",
		Write:   "esp_proposals = aes256gcm16-ecp384; or, until that is possible, rekey_bytes = 8m in swanctl.conf.",
		Sources: []string{"CVE-2016-2183", "NIST SP 800-67 Rev. 2"},
		Demands: []string{baseline.Volume64.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		most := s.Baseline.Limit(baseline.Volume64)
		if s.Shunted() || s.Child.Protocol.Value != ike.ESP || most.Most == 0 {
			return
		}
		all := ike.All(s.Child.Proposals.Value, ike.Encryption)
		i := slices.IndexFunc(all, func(c ike.Choice) bool { return c.Block == 64 })
		if i < 0 || s.Child.LifeBytes.Value > 0 && float64(s.Child.LifeBytes.Value) <= most.Most*1.2 {
			return
		}
		f := p.On(s, s.Child.Proposals.Where(s.Child.At), s.Child.Proposals.IsDefault())
		f.By(most.Level, most.Source.String())
		bound := ike.BirthdayBytes(64) / (1 << 30)
		limit := "no limit of volume ends its keys"
		if s.Child.LifeBytes.Value > 0 {
			limit = fmt.Sprintf("its keys end only after %d MiB", s.Child.LifeBytes.Value>>20)
			f.Also = []audit.Evidence{{Pos: s.Child.LifeBytes.Where(s.Child.RekeyBytes.Where(s.Child.At)), Note: "the limit"}}
		}
		f.Message = fmt.Sprintf("%s has 64-bit blocks (birthday bound %.0f GiB), and %s", all[i], bound, limit)
		if i > 0 {
			f.Lower(1)
		}
		p.Report(f)
	},
}
