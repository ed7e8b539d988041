package ends

import (
	"fmt"

	"toril/audit"
	"toril/pair"
)

// BothWait reports where neither end begins.
var BothWait = &audit.Check{
	Name:     "ends/both-wait",
	Title:    "Both ends wait for the other",
	Severity: audit.High,
	Why:      "No traffic and no restart sets the tunnel up: it stays down until someone initiates it by hand.",
	Fix:      "Let one end initiate, by traffic, so that a policy also catches packets while the tunnel is down.",
	Suggest:  audit.Advice{Sets: audit.ByTraffic, Else: "the file does not say how the child is started"},
	Doc: audit.Doc{
		What: "A child that on both ends waits for the peer; or one that only one end would initiate, where that end does not " +
			"know the other's address.",
		Harm:    "The tunnel is up after the tests, and gone after the first restart.",
		Write:   "start_action = trap on at least one end.",
		Sources: []string{"RFC 7296 section 1.2"},
	},
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		for _, c := range pairs(t) {
			if t.Ends[0].Begins(c.A) || t.Ends[1].Begins(c.B) {
				continue
			}
			f := both(p, t, c.A, c.A.Start.Where(c.A.At), c.B.Start.Where(c.B.At))
			f.Message = fmt.Sprintf("%s: neither %s nor %s initiates", c.A.Name, t.Ends[0].Gateway.Name, t.Ends[1].Gateway.Name)
			p.Report(f)
		}
	},
}
