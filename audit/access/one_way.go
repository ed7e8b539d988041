package access

import (
	"fmt"

	"toril/audit"
	"toril/packet"
)

// OneWay reports where one end lets connections into a tunnel of which the other lets none out.
var OneWay = &audit.Check{
	Name:     "access/one-way",
	Title:    "One end opens connections that the other drops",
	Severity: audit.Low,
	Why:      "The rules of the two ends do not match: what one allows, the other drops.",
	Fix:      "Accept the connections at the far end too, with source and destination as they arrive there, or block them here.",
	PartOf: []audit.Part{
		{Of: "access/blocked", By: audit.SameLine},
		{Of: "ends/not-mirrored", By: audit.SameExcess},
	},
	Doc: audit.Doc{
		What: "What the filter of one end allows into the tunnel between two networks is compared, packet by packet, with what " +
			"the filter of the other allows out of it. The check reports where nothing of it is accepted.",
		Harm: "A rule was copied from one gateway to the other without swapping source and destination, or forgotten on one of " +
			"them; both configurations look right by themselves.",
		Write:   "Here ip saddr 10.1.0.0/24 ip daddr 10.2.0.0/24 tcp dport 443 accept, and there the same rule, not swapped.",
		Sources: []string{"nft(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		end, given := s.Far()
		if pol == nil || !given || len(end.Gateway.Chains) == 0 {
			return
		}
		if _, declared := s.Tunnel.Intended(s.End); declared {
			return
		}
		there := p.Walk(end.Gateway)
		for _, c := range path.Crossings(pol) { // here it comes in; there it went out
			_, stopped := filtered(c.From)
			if len(stopped) == 0 {
				continue
			}
			let, drops := packet.None(), packet.None()
			for _, o := range c.From {
				if o.Passes() {
					let = let.Or(o.Was().OnTheWire())
				}
			}
			for _, o := range stopped {
				drops = drops.Or(o.Was().OnTheWire())
			}
			for _, k := range s.Tunnel.Sharing(s.Child) {
				out := there.Policy(k, s.Tunnel.Own(end), s.Tunnel.Peer(end))
				if out == nil {
					continue
				}
				for _, far := range there.Crossings(out) {
					sent := packet.None()
					doubts := c.Doubts
					for _, a := range far.Sent {
						switch {
						case a.To.Changed():
						case a.To.Doubts.Certain():
							sent = sent.Or(a.To.Now.OnTheWire())
						default: // some of these may be let in
							doubts = doubts.And(a.To.Doubts)
						}
					}
					for _, o := range far.Into {
						doubts = doubts.And(o.Doubts)
					}
					lost := sent.And(drops)
					if lost.Empty() || sent.Overlaps(let) {
						continue
					}
					f := p.On(s, stopped[0].Decided(s.Child.At), false)
					f.Concerns(lost)
					w, _ := lost.Witness()
					f.Example = w.String()
					f.Message = fmt.Sprintf(
						"%s allows new connections from %s to %s into the tunnel, and %s drops all of them",
						end.Gateway.Name,
						far.Local,
						far.Remote,
						s.Gateway.Name,
					)
					for _, a := range far.Sent {
						if r, _ := a.To.Decisive(); r != nil {
							f.Also = []audit.Evidence{{Pos: r.At, Note: "the rule that allows them at " + end.Gateway.Name}}
							break
						}
					}
					f.Rests(reasons(c.From), doubts, path.TrafficDoubts(pol), there.TrafficDoubts(out))
					p.Report(f)
					return
				}
			}
		}
	},
}
