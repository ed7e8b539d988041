package esp

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model/settings"
)

// Transport reports where transport mode is asked for between networks.
var Transport = &audit.Check{
	Name:     "esp/transport",
	Setting:  settings.Mode.Row,
	Title:    "Transport mode between networks",
	Severity: audit.Medium,
	Why:      "Transport mode protects packets of the two gateways themselves, so the packets of the networks behind them are not carried.",
	Fix:      "Use tunnel mode, on both ends.",
	PartOf: []audit.Part{
		{Of: "esp/transport", By: audit.SameChildren},
	},
	Suggest: audit.Values(settings.Mode, ike.Tunnel),
	Doc: audit.Doc{
		What: "The child asks for transport mode, and its selectors are networks or addresses of others than the gateways.",
		Harm: "The child does not come up, or one end falls back to tunnel mode and the other does not; and the inner addresses " +
			"are not hidden.",
		Sources: []string{"RFC 4301 section 4.1", "RFC 7296 section 1.3.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Child.Mode.Value != ike.Transport || s.Child.HostToHost {
			return
		}
		single := func(ss ike.Selectors) bool {
			return !slices.ContainsFunc(ss, func(x ike.Selector) bool { return !x.Dynamic && x.Lo != x.Hi })
		}
		if single(s.Child.Local.Value) && single(s.Child.Remote.Value) {
			return
		}
		f := p.On(s, s.Child.Mode.Where(s.Child.At), false)
		f.Message = fmt.Sprintf("transport mode is asked for between %s and %s", s.Child.Local.Value, s.Child.Remote.Value)
		p.Report(f)
	},
}
