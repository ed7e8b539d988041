package access

import (
	"fmt"

	"toril/audit"
	"toril/gateway"
	"toril/packet"
	"toril/walk"
)

// ShortOfIntent speaks where a declared flow is not possible.
var ShortOfIntent = &audit.Check{
	Name:     "access/short-of-intent",
	Title:    "What the tunnel is for does not pass",
	Severity: audit.High,
	Why:      "The tunnel does not do what it is there for.",
	Mend:     "Accept the flow in the filter, or name its networks in the selectors.",
	Doc: audit.Doc{
		What:    "Every declared flow of a tunnel is sent through the gateway, into the children of the tunnel and out of them. The check speaks where some of it is in no child, or is stopped by the filter.",
		Harm:    "The service that the tunnel was ordered for does not work.",
		Write:   "local_ts and remote_ts that hold the declared networks, and a rule that accepts them.",
		Sources: []string{"RFC 4301 section 5"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		if s.Tunnel.Intent == nil || len(s.Tunnel.Intent.Allow) == 0 || len(s.Connection.Children) == 0 {
			return
		}
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		all := packet.None()
		for _, k := range s.Connection.Children {
			d := k.Domain(own, peer)
			all = all.Or(d).Or(d.Mirror())
		}
		for _, a := range s.Tunnel.Intent.Allow {
			if out := a.Packets.Minus(all); !out.Empty() {
				f := p.On(s, a.At, false)
				f.Severity = audit.High
				w, _ := out.Witness()
				f.Example = w.String()
				f.Message = fmt.Sprintf("no child of %s holds all of %s", s.End.Name(), a.Text)
				f.Also = []audit.Evidence{{Pos: s.Connection.At, Note: "the connection"}}
				p.Report(f)
				continue
			}
			path := p.Walk(s.Gateway)
			for _, pol := range path.Policies {
				if pol.Connection != s.Connection || len(s.Gateway.Chains) == 0 {
					continue
				}
				flow := path.Domain(pol)
				flow.Now = flow.Now.And(a.Packets)
				outcomes := []walk.Outcome{}
				if !flow.Now.Empty() {
					outcomes = path.Forward(flow)
				}
				if in := besides(a.Packets.And(pol.Back()), s.Gateway); !in.Empty() {
					_, inner := path.Inbound(pol, in)
					outcomes = append(outcomes, inner...)
				}
				for _, o := range outcomes {
					if o.Fate != walk.Dropped {
						continue
					}
					f := p.On(s, a.At, false)
					f.Severity = audit.High
					w, _ := o.Was().Witness()
					f.Example = w.String()
					f.Message = fmt.Sprintf("%s is declared, and stopped in %s", a.Text, o.Where)
					f.Also = []audit.Evidence{{Pos: o.Decided(s.Connection.At), Note: "where it is stopped"}}
					f.Undecided(o.Unsure)
					p.Report(f)
					break
				}
			}
		}
	},
}

// besides leaves out the gateway's own addresses as destinations, where others remain: who declares a network does not mean
// the gateway in it.
func besides(in packet.Set, g *gateway.Gateway) packet.Set {
	rest := in
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			rest = rest.Minus(packet.Range(packet.Dst, a.Addr(), a.Addr()))
		}
	}
	if rest.Empty() {
		return in
	}
	return rest
}
