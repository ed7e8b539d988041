package nat

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// DestinationBends reports where destination NAT moves packets into an encryption domain or out of it.
var DestinationBends = &audit.Check{
	Name:     "nat/destination-bends",
	Title:    "Destination NAT moves traffic into or out of a tunnel",
	Severity: audit.Medium,
	Why: "The IPsec policy sees the destination after the translation: traffic for the tunnel leaves in the clear, or other " +
		"traffic goes into it.",
	Fix: "Restrict the translation to the addresses that it is for, or to the interface that it is for.",
	Doc: audit.Doc{
		What: "The packets of every child are sent through prerouting; and the targets of destination NAT are compared with the " +
			"domains.",
		Harm: "A port forward that names no destination catches the tunnel's traffic for that port; a forward to a host at the " +
			"far end opens the partner's network to the Internet.",
		Write:   "iifname \"wan0\" ip daddr 198.51.100.1 tcp dport 443 dnat to 10.1.0.80",
		Sources: []string{"nft(8)", "RFC 4301 section 5.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || s.Shunted() {
			return
		}
		var verdicts []walk.Verdict
		for _, flow := range path.Domain(pol) {
			verdicts = append(verdicts, path.Filter().Through(model.Prerouting, flow)...)
		}
		for _, v := range verdicts {
			if v.Verb != model.DestinationNAT && v.Verb != model.Redirect || v.Rule == nil {
				continue
			}
			if pol.Domain.Contains(
				v.Now.Free(packet.In, packet.Out, packet.State, packet.Direction, packet.Translated, packet.PeerIn, packet.PeerOut),
			) {
				continue
			}
			f := p.On(s, v.Rule.At, false)
			w, _ := v.Was().Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("packets of %s are given another destination, outside the tunnel", s.Child.Name)
			f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
			f.Rests(v.Doubts, path.TrafficDoubts(pol))
			p.Report(f)
			return
		}
		for _, c := range s.Gateway.Chains {
			if c.Kind != model.NATChain || c.Hook != model.Prerouting {
				continue
			}
			for _, r := range c.Rules {
				to := r.Writes()
				if r.Verb != model.DestinationNAT || to.Addrs.Empty() {
					continue
				}
				into := packet.Only(to.Family).
					With(packet.Dst, to.Addrs).
					And(s.Child.Remote.Value.At(pol.Peer).Packets().Free(packet.Proto, packet.Sport, packet.ICMP).Mirror())
				if into.Empty() {
					continue
				}
				f := p.On(s, r.At, false)
				f.Message = fmt.Sprintf("destination NAT to %s leads into %s, to the far end", to.Text, s.Child.Name)
				f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
				p.Report(f)
				return
			}
		}
	},
}
