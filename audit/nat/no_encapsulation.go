package nat

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/packet"
	"toril/pair"
	"toril/walk"
)

// NoEncapsulation reports where a gateway behind NAT could not use UDP.
var NoEncapsulation = &audit.Check{
	Name:     "nat/no-encapsulation",
	Title:    "Behind NAT, and ESP is not in UDP",
	Severity: audit.High,
	Why:      "ESP has no ports that NAT could tell apart: through NAT it must go in UDP port 4500.",
	Fix:      "Let both ends put ESP into UDP where they see NAT, and allow UDP port 4500 to the peer and from it.",
	Doc: audit.Doc{
		What: "Connections from a private address to a public one where the gateway's filter blocks outgoing UDP port 4500, where a " +
			"child uses the authentication header, which no NAT leaves valid, or where an end is set never to put ESP into UDP.",
		Harm: "IKE comes up as far as the second message and stops; or AH is dropped by the peer for its checksum; or the tunnel comes " +
			"up, and of ESP only what the device lets through by chance arrives.",
		Write:   "udp dport 4500 accept in the output chain; encapsulation=auto.",
		Sources: []string{"RFC 3948", "RFC 3715"},
	},
	Requires: audit.Walks,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		if !s.Tunnel.BehindNAT(s.End) {
			return
		}
		far, _ := s.Far()
		for _, e := range []pair.End{s.End, far} {
			if e.Connection == nil || !e.Connection.NoEncap {
				continue
			}
			f := p.On(s, e.Connection.Encap.Where(e.Connection.At), false)
			who := e.Gateway.Name + " never puts"
			if e == s.End {
				who = "never puts"
			}
			f.Message = fmt.Sprintf("%s is behind NAT (%s to %s), and %s ESP into UDP", s.Gateway.Name, own, peer, who)
			p.Report(f)
			return
		}
		for _, k := range s.Connection.Children {
			if k.Protocol.Value == ike.AH {
				f := p.On(s, k.Proposals.Where(k.At), false)
				f.Message = "the authentication header does not survive NAT, and this gateway is behind one"
				p.Report(f)
				return
			}
		}
		path := p.Walk(s.Gateway)
		set := packet.Range(packet.Src, own, own).
			And(packet.Range(packet.Dst, peer, peer)).
			With(packet.Proto, packet.OneOf(17)).
			With(packet.Sport, packet.OneOf(4500)).
			With(packet.Dport, packet.OneOf(4500))
		for _, o := range path.Local(set) {
			if o.Fate != walk.Dropped || o.Where == "route" {
				continue
			}
			f := p.On(s, o.Decided(s.Connection.At), false)
			f.Lower(1)
			f.Message = fmt.Sprintf("%s is behind NAT (%s to %s), and outgoing UDP port 4500 is blocked", s.Gateway.Name, own, peer)
			f.Rests(o.Doubts)
			p.Report(f)
			return
		}
	},
}
