package ends

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/pair"
)

// AnyAgainstList reports where one end names networks and the other everything.
var AnyAgainstList = &audit.Check{
	Name:     "ends/any-against-list",
	Title:    "One end is set to any-to-any, the other to a list of networks",
	Severity: audit.Medium,
	Why: "It is narrowed to the list and works, so the loose end goes unnoticed; it would accept any network that the other end " +
		"proposes.",
	Fix: "Configure the same networks on both ends.",
	PartOf: []audit.Part{
		{Of: "ends/not-mirrored", By: audit.SameChildren},
	},
	Suggest: audit.ByPeople("which networks are meant only their owners know: write them down, then make one end the mirror of the other"),
	Doc: audit.Doc{
		What:    "The selectors of one end's child hold every address, those of the other's do not.",
		Harm:    "Anyone who changes the narrow end, or takes it over, reaches every network behind the loose one.",
		Write:   "local_ts = 10.1.0.0/16 in place of 0.0.0.0/0.",
		Sources: []string{"RFC 7296 section 2.9"},
	},
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		for _, c := range pairs(t) {
			for _, side := range []struct {
				a, b model.Setting[ike.Selectors]
			}{{c.A.Local, c.B.Remote}, {c.A.Remote, c.B.Local}} {
				if side.a.Value.AnyAddress() == side.b.Value.AnyAddress() {
					continue
				}
				f := both(p, t, c.A, side.a.Where(c.A.At), side.b.Where(c.B.At))
				f.Message = fmt.Sprintf(
					"%s is set to %s and %s to %s: only the list is negotiated, and the other end would accept anything",
					t.Ends[0].Gateway.Name,
					side.a.Value,
					t.Ends[1].Gateway.Name,
					side.b.Value,
				)
				p.Report(f)
			}
		}
	},
}
