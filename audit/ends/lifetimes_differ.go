package ends

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/model"
	"toril/pair"
	"toril/present"
)

// LifetimesDiffer reports where the lifetimes of both ends differ by far.
var LifetimesDiffer = &audit.Check{
	Name:     "ends/lifetimes-differ",
	Title:    "Lifetimes differ where it matters",
	Severity: audit.Medium,
	Why:      "Each end keeps its own lifetime; an end whose hard limit comes before the other rekeys drops the child.",
	Fix:      "Configure the same lifetimes on both ends.",
	PartOf: []audit.Part{
		{Of: "life/child-too-long", By: audit.SameChildren},
		{Of: "life/ike-too-long", By: audit.SameIKE},
	},
	Suggest: audit.Advice{Sets: audit.SameLifetimes}.WithFar(),
	Doc: audit.Doc{
		What: "A child whose hard lifetime on one end, where that end does not rekey, is shorter than the rekey time of the " +
			"other; IKE SAs and children that differ by more than four times.",
		Harm:    "Under IKEv1 a peer that keeps an SA the other has dropped sends into nothing until it notices.",
		Write:   "rekey_time = 1h on both.",
		Sources: []string{"RFC 7296 section 2.8", "RFC 2409 section 5.5"},
	},
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		far := func(a, b time.Duration) bool { return a > 0 && b > 0 && (a > 4*b || b > 4*a) }
		for _, c := range pairs(t) {
			if a, b := c.A.Rekey.Value, c.B.Rekey.Value; far(a, b) {
				f := both(p, t, c.A, c.A.Rekey.Where(c.A.At), c.B.Rekey.Where(c.B.At))
				f.Lower(1)
				f.Message = fmt.Sprintf(
					"the child's lifetime is %s on %s and %s on %s: the shorter one applies",
					present.Span(a),
					t.Ends[0].Gateway.Name,
					present.Span(b),
					t.Ends[1].Gateway.Name,
				)
				p.Report(f)
			}
			for _, side := range [][2]*model.Child{{c.A, c.B}, {c.B, c.A}} {
				if side[0].Rekey.Value == 0 && side[0].Life.Value > 0 && side[1].Rekey.Value > side[0].Life.Value {
					f := both(p, t, c.A, c.A.Rekey.Where(c.A.At), c.B.Rekey.Where(c.B.At))
					f.Message = fmt.Sprintf(
						"one end closes the child after %s without rekeying, the other would rekey after %s: it drops in between",
						present.Span(side[0].Life.Value),
						present.Span(side[1].Rekey.Value),
					)
					p.Report(f)
				}
			}
		}
		if len(t.Ends) < 2 {
			return
		}
		a, b := t.Ends[0].Connection, t.Ends[1].Connection
		if far(a.Lifetime(), b.Lifetime()) {
			f := both(p, t, nil, a.LifetimeSetting().Where(a.At), b.LifetimeSetting().Where(b.At))
			f.Lower(1)
			f.Message = fmt.Sprintf(
				"the IKE SA's lifetime is %s on %s and %s on %s: the shorter one applies",
				present.Span(a.Lifetime()),
				t.Ends[0].Gateway.Name,
				present.Span(b.Lifetime()),
				t.Ends[1].Gateway.Name,
			)
			p.Report(f)
		}
	},
}
