package access

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/source"
)

// NoMSS reports where TCP is clamped to segments that do not fit, or not at all where nothing else tells what fits.
var NoMSS = &audit.Check{
	Name:     "access/no-mss",
	Title:    "TCP is not clamped to what fits into the tunnel",
	Severity: audit.Low,
	Why:      "Segments that are too large for the tunnel are dropped, and where ICMP is blocked the sender never learns it.",
	Fix:      "Clamp TCP to what the path takes: tcp flags syn tcp option maxseg size set rt mtu, or -j TCPMSS --clamp-mss-to-pmtu.",
	PartOf:   []audit.Part{{Of: "access/no-icmp", By: audit.SameChild}},
	Suggest:  audit.Rules(audit.AcceptTooBig, audit.AcceptAnswers),
	Doc: audit.Doc{
		What: "Rules that clamp the MSS of TCP through a child to a number, against what its suite, mode and outside interface " +
			"leave room for " +
			"(docs/sizes.md); and children that pass TCP without such a rule while the messages are blocked that report packets " +
			"as too big.",
		Harm:    "Logins work and copies hang: the usual complaint about tunnels.",
		Write:   "tcp flags & (syn | rst) == syn tcp option maxseg size set rt mtu",
		Sources: []string{"RFC 9293 section 3.7.1", "RFC 4459 section 3.2"},
	},
	Requires: audit.Walks | audit.Negotiation,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		z, ok := p.Sizes(s)
		if !ok {
			return
		}
		traffic := path.Traffic(pol).And(packet.Only(packet.IPv4)).With(packet.Proto, packet.OneOf(6))
		if traffic.Empty() {
			return
		}
		most := z.Wrap.MSS(z.InnerMTU)
		clamped, wrong := clamps(s.Gateway, traffic, most)
		switch {
		case wrong != nil:
			f := p.On(s, wrong.At, false)
			f.Lower(-1)
			f.Message = fmt.Sprintf("TCP of %s is clamped to segments of %d bytes; %d fit", s.Child.Name, wrong.MSS, most)
			f.Measured, f.Required = fmt.Sprint(wrong.MSS), fmt.Sprintf("at most %d", most)
			p.Report(f)
		case clamped:
		default:
			stopped, doubts := unreported(p, s)
			if len(stopped) == 0 {
				return
			}
			f := p.On(s, source.Pos{}, false)
			f.At.Pos = stopped[0].Decided(s.Child.At)
			f.Message = fmt.Sprintf("TCP of %s is not clamped, and messages that report packets as too big are blocked; %d bytes "+
				"fit a segment",
				s.Child.Name, most)
			f.Rests(reasons(stopped), doubts, s.Gateway.FilterDoubts(), path.TrafficDoubts(pol))
			p.Report(f)
		}
	},
}

// clamps reports whether rules clamp the MSS of some packets or their answers, and which of them does so to more than fits.
func clamps(g *model.Gateway, traffic packet.Set, most int) (clamped bool, wrong *model.Rule) {
	both := traffic.Or(traffic.Mirror())
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			if r.MSS == 0 ||
				!r.When.Free(packet.State, packet.Direction, packet.In, packet.Out, packet.Mark, packet.ConnMark).Overlaps(both) {
				continue
			}
			clamped = true
			if r.MSS > most && wrong == nil {
				wrong = r
			}
		}
	}
	return clamped, wrong
}
