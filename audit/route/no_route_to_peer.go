package route

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// NoRouteToPeer reports where the gateway has no route to its peer.
var NoRouteToPeer = &audit.Check{
	Name:     "route/no-route-to-peer",
	Title:    "No route to the peer",
	Severity: audit.High,
	Why:      "IKE packets to the peer never leave: the tunnel cannot be initiated from here, and responses do not get out either.",
	Fix:      "Add a route to the peer's address, or a default route via the outside interface.",
	Effect:   audit.Stops,
	Doc: audit.Doc{
		What: "IKE packets from the own tunnel address to the peer's are routed as the gateway's own. Asked only where routes " +
			"were given.",
		Harm:    "The daemon retries for minutes and gives up; its log shows retransmissions, as for a peer that is down.",
		Write:   "ip route add default via 198.51.100.254 dev wan0",
		Sources: []string{"ip-route(8)"},
	},
	Requires: audit.Walks,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		if len(s.Gateway.Routes) == 0 || !peer.IsValid() || s.Connection.Unusable != nil {
			return
		}
		ike := packet.Range(packet.Dst, peer, peer).
			With(packet.Proto, packet.OneOf(17)).
			With(packet.Sport, packet.OneOf(500)).
			With(packet.Dport, packet.OneOf(500))
		if own.IsValid() && own.BitLen() == peer.BitLen() {
			ike = ike.And(packet.Range(packet.Src, own, own))
		}
		var doubts model.Doubts
		for _, o := range p.Walk(s.Gateway).Local(ike) {
			if o.Fate != walk.Dropped || o.Where != "route" {
				doubts.Add(o.Doubts...)
				continue
			}
			f := p.On(s, s.Connection.RemoteAddrs.Where(s.Connection.At), false)
			f.Message = fmt.Sprintf("%s has no route to its peer %s", s.Gateway.Name, peer)
			for _, st := range o.Steps {
				if st.Stage == "route" && st.Route != nil {
					f.Message = fmt.Sprintf("the %s route for %s takes the packets to the peer %s", st.Route.Kind, st.Route.To, peer)
					f.Also = []audit.Evidence{{Pos: st.Route.At, Note: "the route"}}
				}
			}
			f.Rests(o.Doubts)
			p.Report(f)
			return
		}
		f := p.On(s, s.Connection.RemoteAddrs.Where(s.Connection.At), false)
		f.Message = fmt.Sprintf("%s may have no route to its peer %s", s.Gateway.Name, peer)
		p.Perhaps(f, doubts)
	},
}
