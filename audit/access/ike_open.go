package access

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// IKEOpen reports where anybody may talk to the IKE daemon though all peers are fixed.
var IKEOpen = &audit.Check{
	Name:     "access/ike-open",
	Title:    "IKE is open to every address although all peers are fixed",
	Severity: audit.Low,
	Why:      "Anyone can try keys, and any flaw of the daemon, without being a peer.",
	Fix:      "Accept UDP 500 and 4500 and ESP from the addresses of the peers only.",
	Doc: audit.Doc{
		What: "IKE from a source that is no peer, to an own tunnel address, is sent through the input hook, on gateways all of " +
			"whose connections name single addresses of their peers.",
		Harm:    "Scans find the daemon, its version and its weakest proposals; any flaw in it is open to everyone.",
		Write:   "ip saddr { 203.0.113.9, 198.51.100.7 } udp dport { 500, 4500 } accept",
		Sources: []string{"RFC 7296 section 2.6", "NIST SP 800-77 Rev. 1"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Chains) == 0 || len(g.Connections) == 0 {
			return
		}
		path := p.Walk(g)
		bases := path.Filter().Bases(model.Input)
		if len(bases) == 0 {
			return // access/default-accept says that there is no filter
		}
		var peers []netip.Addr
		var own netip.Addr
		for _, pol := range path.Policies {
			if !pol.Peer.IsValid() || pol.Connection.RemoteAddrs.Value.Any() {
				return
			}
			peers = append(peers, pol.Connection.RemoteAddrs.Value.Fixed()...)
			if pol.Own.IsValid() && pol.Own.Is4() {
				own = pol.Own
			}
		}
		if !own.IsValid() || len(peers) == 0 {
			return
		}

		stranger := netip.MustParseAddr("203.0.113.254")
		for slices.Contains(peers, stranger) {
			stranger = stranger.Prev()
		}
		ike := walk.Plain(packet.Range(packet.Src, stranger, stranger).And(packet.Range(packet.Dst, own, own))).WithAll(
			packet.Term{Field: packet.Proto, Values: packet.OneOf(17)},
			packet.Term{Field: packet.Sport, Values: packet.OneOf(500)},
			packet.Term{Field: packet.Dport, Values: packet.OneOf(500)},
		)
		for _, v := range path.Filter().Through(model.Input, path.FromOutside(ike, own, peers[0])) {
			if v.Verb != model.Accept {
				continue
			}
			_, at, ok := acceptedBy(v, bases)
			if !ok {
				continue
			}
			f := audit.Finding{
				Gateway: g.Name,
				At:      audit.Evidence{Pos: at},
				Example: fmt.Sprintf("udp %s:500 > %s:500", stranger, own),
				Message: "IKE is accepted from any address, and every peer has a fixed address",
			}
			f.Rests(v.Doubts)
			p.Report(f)
			return
		}
	},
}
