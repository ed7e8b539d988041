package domain

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
)

// ClaimedTwice reports where two tunnels of a gateway are for the same packets.
var ClaimedTwice = &audit.Check{
	Name:     "domain/claimed-twice",
	Setting:  settings.PeerNetworks.Row,
	Title:    "Two tunnels claim the same remote network",
	Severity: audit.High,
	Why:      "One policy takes the packets of both; which one is decided by order and breadth, not by intent.",
	Fix:      "Give each network to one tunnel, or make the tunnels redundant through routes and interfaces of their own.",
	Doc: audit.Doc{
		What: "The encryption domains of all children of a gateway that go to different peers, pair by pair, where neither is " +
			"chosen by routes. Tunnels for all addresses are not compared.",
		Harm:    "A new tunnel attracts the traffic of an old one; a partner whose selectors are wide receives what was meant for another.",
		Write:   "remote_ts = 10.2.0.0/16 in one connection and 10.3.0.0/16 in the other.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		path := p.Walk(g)
		sets := make([]packet.Set, len(path.Policies))
		for i, pol := range path.Policies {
			if pol.Protects() && pol.IfID == 0 && !pol.Child.Remote.Value.AnyAddress() {
				sets[i] = pol.Domain
			}
		}
		index, room := packet.NewIndex(sets), new(packet.Room)
		for i, pol := range path.Policies {
			around, err := index.Around(i, room)
			if err != nil {
				panic(packet.TooComplex())
			}
			j := around.First(func(j int) bool {
				return j > i && path.Policies[j].Connection != pol.Connection && path.Policies[j].Peer != pol.Peer
			})
			if j < 0 {
				continue
			}
			o := path.Policies[j]
			both := pol.Domain.And(o.Domain)
			f := audit.Finding{
				Gateway:    g.Name,
				Connection: pol.Connection.Name,
				Child:      pol.Child.Name,
				At:         audit.Evidence{Pos: pol.Child.Remote.Where(pol.Child.At)},
			}
			w, _ := both.Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("%s and %s are both for %s", pol.Name, o.Name, both)
			f.Also = []audit.Evidence{{Pos: o.Child.Remote.Where(o.Child.At), Note: "the other tunnel"}}
			p.Report(f)
		}
	},
}
