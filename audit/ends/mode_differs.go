package ends

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model/settings"
	"toril/negotiate"
	"toril/pair"
)

// ModeDiffers reports where one end says transport mode and the other tunnel mode.
var ModeDiffers = &audit.Check{
	Name:     "ends/mode-differs",
	Title:    "One end is set to transport mode, the other to tunnel mode",
	Severity: audit.High,
	Why: "IKEv2 falls back to tunnel mode where it can; IKEv1 refuses, and so do selectors that do not hold the gateways' own " +
		"addresses.",
	Fix:     "Set the same mode on both ends: tunnel mode for networks.",
	Suggest: audit.Values(settings.Mode, ike.Tunnel),
	Doc: audit.Doc{
		What:    "The mode of both ends of every child, and what becomes of it for either initiator.",
		Harm:    "No child comes up, and the error about selectors points to the wrong cause.",
		Write:   "mode = tunnel on both.",
		Sources: []string{"RFC 7296 section 1.3.1", "RFC 4301 section 4.1"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		for _, c := range pairs(t) {
			if c.A.Mode.Value == c.B.Mode.Value {
				continue
			}
			f := both(p, t, c.A, c.A.Mode.Where(c.A.At), c.B.Mode.Where(c.B.At))
			f.Message = fmt.Sprintf(
				"%s is in %s mode on %s and in %s mode on %s",
				c.A.Name,
				c.A.Mode.Value,
				t.Ends[0].Gateway.Name,
				c.B.Mode.Value,
				t.Ends[1].Gateway.Name,
			)
			if slices.ContainsFunc(p.Attempts(t), func(a negotiate.Attempt) bool {
				return slices.ContainsFunc(
					a.Children,
					func(k negotiate.Child) bool { return k.Failure != nil && k.Failure.Topic == negotiate.Mode },
				)
			}) {
				f.Message += ": the child does not come up"
			} else {
				f.Lower(1)
			}
			p.Report(f)
		}
	},
}
