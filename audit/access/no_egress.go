package access

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/packet"
	"toril/walk"
)

// NoEgress reports where everything is to go through a tunnel, and the hub does not let it out to the Internet.
var NoEgress = &audit.Check{
	Name:     "access/no-egress",
	Title:    "The hub of a full tunnel blocks all Internet traffic",
	Severity: audit.High,
	Why:      "The branch sends everything here, and has no other way to the Internet.",
	Fix:      "Accept in the forward chain what comes out of the tunnel for the Internet, and apply source NAT as it leaves.",
	Doc: audit.Doc{
		What: "For tunnels that are declared as full-tunnel, at the end whose local side is any address: new connections out of the " +
			"tunnel to public addresses are followed. The check reports where the filter drops all of them; and, " +
			"as nat/no-egress, where they leave with a private source.",
		Harm:    "The branch works with the hub's networks and has no Internet.",
		Write:   "meta ipsec exists ip saddr 10.2.0.0/24 oifname \"wan0\" tcp dport { 80, 443 } accept",
		Sources: []string{"nft(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		inner, ok := audit.Egress(p, s)
		if !ok || len(s.Gateway.Chains) == 0 {
			return
		}
		passed, stopped := filtered(inner)
		passed = slices.DeleteFunc(
			passed,
			func(o walk.Outcome) bool { return !o.Now.Overlaps(packet.Where(packet.Proto, packet.OneOf(6, 17))) },
		)
		if len(passed) > 0 || len(stopped) == 0 {
			return
		}
		f := p.On(s, stopped[0].Decided(s.Child.At), false)
		w, _ := stopped[0].Was().Witness()
		f.Example = w.String()
		f.Message = fmt.Sprintf("all traffic is to go through %s, and the filter drops all of it on the way to the Internet", s.Child.Name)
		f.Rests(reasons(stopped))
		p.Report(f)
	},
}
