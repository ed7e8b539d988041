package domain

import (
	"fmt"

	"toril/audit"
	"toril/model/settings"
	"toril/packet"
)

// SidesOverlap reports where an address is on both sides.
var SidesOverlap = &audit.Check{
	Name:     "domain/sides-overlap",
	Setting:  settings.OwnNetworks.Row,
	Title:    "Both sides of the encryption domain overlap",
	Severity: audit.High,
	Why:      "Packets within one site match the tunnel, and hosts with the same address on both sides cannot reach each other.",
	Fix:      "Renumber one side, or translate one of the networks one-to-one and put the translated one into the selectors of both ends.",
	PartOf: []audit.Part{
		{Of: "domain/sides-overlap", By: audit.SameChildren},
	},
	Doc: audit.Doc{
		What: "Some address stands in the local and in the remote selectors of a child, and the sides are not both \"everything\".",
		Harm: "Hosts of one network lose each other when the tunnel comes up; replies go to the wrong one of two hosts with the " +
			"same address.",
		Write:   "Networks that are apart: 10.1.0.0/24 here and 10.2.0.0/24 there.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		c := s.Child
		if s.Shunted() || c.Local.Value.AnyAddress() || c.Remote.Value.AnyAddress() {
			return
		}
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		both := c.Local.Value.At(own).
			Packets().
			Free(packet.Proto, packet.Sport, packet.ICMP).
			And(c.Remote.Value.At(peer).Packets().Free(packet.Proto, packet.Sport, packet.ICMP))
		if both.Empty() || bypassed(p.Walk(s.Gateway), both) || s.Summarises(p.Walk(s.Gateway)) {
			return
		}
		f := p.On(s, c.Remote.Where(c.Local.Where(c.At)), false)
		f.Message = fmt.Sprintf("%s is on both sides of the child", audit.Networks(both, packet.Src))
		if c.Local.At != c.Remote.At {
			f.Also = []audit.Evidence{{Pos: c.Local.Where(c.At), Note: "the local side"}}
		}
		f.Rests(s.SelectorDoubts())
		p.Report(f)
	},
}
