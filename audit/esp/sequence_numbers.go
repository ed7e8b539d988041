package esp

import (
	"slices"

	"toril/audit"
	"toril/baseline"
	"toril/ike"
)

// SequenceNumbers reports where 32-bit sequence numbers may run out.
var SequenceNumbers = &audit.Check{
	Name:     "esp/sequence-numbers",
	Title:    "Sequence numbers may run out",
	Severity: audit.Info,
	Why:      "A child with 32-bit sequence numbers stops after 2^32 packets, about twelve hours at one gigabit per second.",
	Fix:      "Negotiate extended sequence numbers on both ends, or rekey more often.",
	PartOf: []audit.Part{
		{Of: "esp/sequence-numbers", By: audit.SameChildren},
		{Of: "life/child-too-long", By: audit.SameChildren},
	},
	Doc: audit.Doc{
		What: "The child lives for twelve hours or longer, or without a limit, with 32-bit sequence numbers.",
		Harm: "When the numbers come to their end the SA must stop; on a fast link that is before the lifetime ends, and the " +
			"tunnel drops in between.",
		Write:   "In swanctl.conf: esp_proposals = aes256gcm16-ecp384-esn on both ends, or a rekey_time of some hours.",
		Sources: []string{"RFC 4303 section 2.2.1", "RFC 4304"},
		Demands: []string{baseline.ExtendedSequence.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		d := s.Baseline.Demand(baseline.ExtendedSequence)
		if s.Shunted() || d.Level == baseline.Unsaid || s.Child.ReplayWindow.Value == 0 {
			return
		}
		for _, pr := range s.Child.Proposals.Value {
			if slices.ContainsFunc(pr.Transforms[ike.Sequence], func(c ike.Choice) bool { return c.ID == 1 }) {
				return
			}
		}
		if r := s.Child.Rekey.Value; r > 0 && r < longLived || s.Child.RekeyPackets.Value > 0 || s.Child.RekeyBytes.Value > 0 {
			return
		}
		f := p.On(s, s.Child.Rekey.Where(s.Child.At), s.Child.Rekey.IsDefault())
		f.By(d.Level, d.Source.String())
		f.Message = "the child lives long and has 32-bit sequence numbers"
		p.Report(f)
	},
}
