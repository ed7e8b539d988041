package access

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// IKEClosed reports where the peer cannot reach the gateway's IKE daemon.
var IKEClosed = &audit.Check{
	Name:     "access/ike-closed",
	Title:    "IKE or ESP is blocked at the gateway",
	Severity: audit.High,
	Why:      "The tunnel cannot be set up, or comes up and carries nothing in one direction.",
	Fix: "Accept UDP 500 and 4500 and ESP from the peer's address in the input chain and to it in the output chain, before " +
		"anything drops them.",
	PartOf: []audit.Part{
		{Of: "access/ike-closed", By: audit.SameLine},
	},
	Suggest: audit.Rules(audit.AcceptIKE),
	Doc: audit.Doc{
		What: "IKE (UDP 500 and 4500), and ESP where no NAT is between, from the peer's address to the own tunnel address are sent " +
			"through the input hook as new packets, and from the own address to the peer's through the output and postrouting hooks.",
		Harm: "A tunnel that this end can initiate and the other cannot; after the far end restarts it stays down until this end " +
			"initiates. With ESP blocked, the tunnel " +
			"comes up and nothing passes.",
		Write: "In nftables, chain input: ip saddr 203.0.113.9 udp dport { 500, 4500 } accept, and ip saddr 203.0.113.9 meta " +
			"l4proto esp accept.",
		Sources: []string{"RFC 7296 section 2", "RFC 3948", "RFC 4303"},
	},
	Requires: audit.Walks,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		path := p.Walk(s.Gateway)
		filter := path.Filter()
		if !own.IsValid() || !peer.IsValid() || own.BitLen() != peer.BitLen() {
			return
		}
		from := walk.Plain(packet.Range(packet.Src, peer, peer).And(packet.Range(packet.Dst, own, own))).
			With(packet.PeerIn, packet.OneOf(0))
		udp := from.With(packet.Proto, packet.OneOf(17))
		for _, kind := range []struct {
			name string
			set  packet.Set
		}{
			{"IKE (UDP 500)", udp.With(packet.Dport, packet.OneOf(500)).With(packet.Sport, packet.OneOf(500))},
			{"IKE and ESP in UDP (port 4500)", udp.With(packet.Dport, packet.OneOf(4500)).With(packet.Sport, packet.OneOf(4500))},
			{"ESP", from.With(packet.Proto, packet.OneOf(50))},
		} {
			if kind.name == "ESP" && mayBeInUDP(s) ||
				s.Connection.LocalPort.Value != 500 && kind.name != "ESP" {
				continue
			}
			passed, closed := packet.None(), (*walk.Verdict)(nil)
			var doubts model.Doubts
			for _, v := range filter.Through(model.Input, path.FromOutside(kind.set, own, peer)) {
				switch {
				case v.Verb == model.Accept:
					passed = passed.Or(v.Was())
				case closed == nil:
					closed = &v
				}
				doubts.Add(v.Doubts...)
			}
			if closed == nil || !passed.Empty() { // let in by some interface: the one that the peer's packets come by
				if kind.name != "ESP" {
					mayBeClosed(p, s, kind.name+" from the peer may be blocked", audit.StopsPeer, doubts)
				}
				continue
			}
			f := p.On(s, closed.Decided(s.Connection.At), false)
			f.Message = fmt.Sprintf("%s from the peer %s to %s is blocked", kind.name, peer, own)
			f.Also = []audit.Evidence{{Pos: s.Connection.RemoteAddrs.Where(s.Connection.At), Note: "the peer"}}
			f.Rests(doubts)
			if kind.name != "ESP" {
				f.Means(audit.StopsPeer)
			}
			p.Report(f)
			return // the first says it: the others are usually closed by the same rule
		}
		to := from.Mirror().Free(packet.PeerIn)
		for _, kind := range []struct {
			name string
			outs []walk.Outcome
		}{
			{"IKE (UDP 500)",
				path.Local(to.With(packet.Proto, packet.OneOf(17)).With(packet.Dport, packet.OneOf(500)).With(packet.Sport,
					packet.OneOf(500)))},
			{"ESP", espOut(path, s)},
		} {
			for _, o := range kind.outs {
				if !o.Filtered() || kind.name != "ESP" && s.Connection.LocalPort.Value != 500 {
					if kind.name != "ESP" {
						mayBeClosed(p, s, kind.name+" to the peer may be blocked", audit.StopsOwn, o.Doubts)
					}
					continue
				}
				f := p.On(s, o.Decided(s.Connection.At), false)
				f.Message = fmt.Sprintf("%s from %s to the peer %s is blocked in %s", kind.name, own, peer, o.Where)
				f.Also = []audit.Evidence{{Pos: s.Connection.RemoteAddrs.Where(s.Connection.At), Note: "the peer"}}
				f.Rests(o.Doubts)
				if kind.name != "ESP" {
					f.Means(audit.StopsOwn)
				}
				p.Report(f)
				return
			}
		}
	},
}

// mayBeClosed hands in that something may be blocked, where what was not understood decides it.
func mayBeClosed(p *audit.Pass, s *audit.Subject, message string, means audit.Effect, doubts model.Doubts) {
	f := p.On(s, s.Connection.RemoteAddrs.Where(s.Connection.At), false)
	f.Message = message
	f.Means(means)
	p.Perhaps(f, doubts)
}

// espOut is what becomes of the ESP packets of a connection's first child on their way out.
func espOut(path *walk.Path, s *audit.Subject) []walk.Outcome {
	own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
	if mayBeInUDP(s) {
		return nil
	}
	for _, k := range s.Connection.Children {
		if pol := path.Policy(k, own, peer); pol != nil && pol.Protects() {
			return path.Outer(pol)
		}
	}
	return nil
}

// mayBeInUDP reports whether a connection's ESP goes in UDP, or may: one of its addresses is private and the other is not.
func mayBeInUDP(s *audit.Subject) bool {
	return s.Tunnel.InUDP(s.End) || s.Tunnel.Own(s.End).IsPrivate() != s.Tunnel.Peer(s.End).IsPrivate()
}
