package esp

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/baseline"
	"toril/model/settings"
)

// Replay reports where packets can be sent again.
var Replay = &audit.Check{
	Name:     "esp/replay",
	Setting:  settings.ReplayWindow.Row,
	Title:    "Replay protection is off or narrow",
	Severity: audit.Medium,
	Why:      "An attacker on the path can send recorded packets again.",
	Fix:      "Set the replay window to 64 packets or more, on fast links to some thousand.",
	Suggest:  audit.Values(settings.ReplayWindow, 64),
	Doc: audit.Doc{
		What: "The replay window of the child is 0, or below what the baseline asks for.",
		Harm: "With the window off, a recorded command is carried out as often as it is sent. With a narrow one, packets that " +
			"overtake each other on a fast link are dropped.",
		Sources: []string{"RFC 4303 section 3.4.3"},
		Demands: []string{baseline.ReplayProtection.Name, baseline.ReplayWindow.Name},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() {
			return
		}
		set, least := s.Child.ReplayWindow, s.Baseline.Limit(baseline.ReplayWindow)
		d := s.Baseline.Demand(baseline.ReplayProtection)
		f := p.On(s, set.Where(s.Child.At), set.IsDefault())
		f.Measured, f.Required = fmt.Sprintf("%d packets", set.Value), fmt.Sprintf("at least %.0f packets", least.Least)
		switch {
		case set.Value == 0:
			if f.Standard = d.Source.String(); audit.OfLevel(d.Level) > p.Check.Severity {
				f.By(d.Level, d.Source.String())
			}
			f.Message = "replay protection is off"
		case float64(set.Value) < least.Least:
			f.Standard = least.Source.String()
			f.Lower(1)
			f.Message = fmt.Sprintf("the replay window is %d packets, less than %.0f", set.Value, least.Least)
		default:
			return
		}
		p.Report(f)
	},
}

// longLived is a child lifetime from which 32-bit sequence numbers may come to an end on a fast link: at 100,000 packets
// a second (about 1 Gbit/s) 2^32 packets last twelve hours.
const longLived = 12 * time.Hour
