package domain

import (
	"fmt"

	"toril/audit"
	"toril/model/settings"
)

// AnyToAny reports where a child protects everything.
var AnyToAny = &audit.Check{
	Name:     "domain/any-to-any",
	Setting:  settings.OwnNetworks.Row,
	Title:    "The encryption domain is any to any",
	Severity: audit.Medium,
	Why:      "The tunnel carries whatever either side sends: the selectors no longer say, or limit, what it is for.",
	Fix:      "Name the networks of both sides; where all traffic shall pass, say so as the tunnel's intent.",
	PartOf: []audit.Part{
		{Of: "domain/any-to-any", By: audit.SameChildren},
		{Of: "ends/any-against-list", By: audit.SameChildren},
	},
	Doc: audit.Doc{
		What: "Both sides of a child's selectors hold every address. A child whose packets are chosen by routes (through an " +
			"interface of its own) is asked by other checks; " +
			"there any-to-any is the usual form.",
		Harm: "A partner can send packets of any source into the network, and a policy for everything draws all traffic into the " +
			"tunnel, the Internet included.",
		Write:   "In swanctl.conf: local_ts = 10.1.0.0/24 and remote_ts = 10.2.0.0/24.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		c := s.Child
		if in := s.Tunnel.Intent; in != nil && in.FullTunnel {
			return // declared as meant
		}
		if s.Shunted() || c.RouteBased() || !c.Local.Value.AnyAddress() || !c.Remote.Value.AnyAddress() {
			return
		}
		f := p.On(s, c.Remote.Where(c.Local.Where(c.At)), false)
		f.Message = fmt.Sprintf("the child protects %s to %s", c.Local.Value, c.Remote.Value)
		if c.Local.At != c.Remote.At {
			f.Also = []audit.Evidence{{Pos: c.Local.At, Note: "the local side"}}
		}
		f.Rests(s.SelectorDoubts())
		p.Report(f)
	},
}
