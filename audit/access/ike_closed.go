package access

import (
	"fmt"

	"toril/audit"
	"toril/gateway"
	"toril/packet"
	"toril/walk"
)

// IKEClosed speaks where the peer cannot reach the gateway's IKE daemon.
var IKEClosed = &audit.Check{
	Name:     "access/ike-closed",
	Title:    "The peer's IKE or ESP packets are not let in",
	Severity: audit.High,
	Why:      "The peer cannot set the tunnel up, or its packets do not arrive.",
	Mend:     "Accept UDP 500 and 4500 and ESP from the peer's address in the input chain, before anything drops them.",
	Doc: audit.Doc{
		What: "IKE (UDP 500 and 4500), and ESP where no NAT is between, from the peer's address to the own tunnel address are sent through the input hook as new packets.",
		Harm: "A tunnel that this end can start and the other cannot; after the far end restarts it stays down until something here speaks first. With ESP closed the tunnel " +
			"comes up and nothing passes.",
		Write:   "In nftables, chain input: ip saddr 203.0.113.9 udp dport { 500, 4500 } accept, and ip saddr 203.0.113.9 meta l4proto esp accept.",
		Sources: []string{"RFC 7296 section 2", "RFC 3948", "RFC 4303"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		path := p.Walk(s.Gateway)
		filter := path.Filter()
		if !own.IsValid() || !peer.IsValid() || own.BitLen() != peer.BitLen() || len(filter.Bases(gateway.Input)) == 0 {
			return
		}
		outside, _ := path.Outside(own, peer)
		from := walk.Plain(packet.Range(packet.Src, peer, peer).And(packet.Range(packet.Dst, own, own))).With(packet.PeerIn, packet.OneOf(0)).With(packet.In, outside)
		udp := from.With(packet.Proto, packet.OneOf(17))
		for _, kind := range []struct {
			name string
			set  packet.Set
		}{
			{"IKE (UDP 500)", udp.With(packet.Dport, packet.OneOf(500)).With(packet.Sport, packet.OneOf(500))},
			{"IKE and ESP in UDP (port 4500)", udp.With(packet.Dport, packet.OneOf(4500)).With(packet.Sport, packet.OneOf(4500))},
			{"ESP", from.With(packet.Proto, packet.OneOf(50))},
		} {
			if kind.name == "ESP" && s.Connection.Encap.Value || s.Connection.LocalPort.Value != 500 && kind.name != "ESP" {
				continue
			}
			passed, closed := packet.None(), (*walk.Verdict)(nil)
			var unsure []string
			for _, v := range filter.Through(gateway.Input, walk.Start(kind.set)) {
				switch {
				case v.Verb == gateway.Accept:
					passed = passed.Or(v.Was())
				case closed == nil:
					closed = &v
				}
				unsure = append(unsure, v.Unsure...)
			}
			if closed == nil || !passed.Empty() { // let in by some interface: the one that the peer's packets come by
				continue
			}
			f := p.On(s, closed.Decided(s.Connection.At), false)
			f.Severity = audit.High
			f.Message = fmt.Sprintf("%s from the peer %s to %s is not let in", kind.name, peer, own)
			f.Also = []audit.Evidence{{Pos: s.Connection.RemoteAddrs.Where(s.Connection.At), Note: "the peer"}}
			f.Undecided(unsure[:min(1, len(unsure))])
			p.Report(f)
			return // the first says it: the others are usually closed by the same rule
		}
	},
}
