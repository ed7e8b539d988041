package nat

import (
	"fmt"

	"toril/audit"
	"toril/packet"
	"toril/walk"
)

// NoEgress reports where the hub of a full tunnel sends private sources to the Internet.
var NoEgress = &audit.Check{
	Name:     "nat/no-egress",
	Title:    "The hub of a full tunnel does not translate what it sends to the Internet",
	Severity: audit.High,
	Why:      "Packets leave for the Internet with a private source: no reply can come back.",
	Fix:      "Masquerade the branch's networks too, as they leave by the outside interface.",
	Doc: audit.Doc{
		What: "For tunnels that are declared as full-tunnel, at the end whose local side is any address: new connections out of " +
			"the tunnel to public addresses are followed to where they leave, and their source is looked at.",
		Harm:    "The branch's packets reach the hub and leave it, and nothing returns; the provider drops them.",
		Write:   "ip saddr { 10.1.0.0/24, 10.2.0.0/24 } oifname \"wan0\" masquerade",
		Sources: []string{"RFC 1918 section 3"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		inner, ok := audit.Egress(p, s)
		if !ok {
			return
		}
		for _, o := range inner {
			private := o.Now.And(privateSources())
			if o.Fate != walk.Clear || private.Empty() {
				continue
			}
			f := p.On(s, o.Decided(s.Child.At), false)
			w, _ := private.Free(packet.In, packet.Out).Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("what comes out of %s for the Internet leaves with its private source", s.Child.Name)
			if o.Out != "" {
				f.Message += " via " + o.Out
			}
			f.Rests(o.Doubts)
			p.Report(f)
			return
		}
	},
}
