package access

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/gateway"
	"toril/packet"
	"toril/walk"
)

// BeyondIntent speaks where the gateways let more through a tunnel than it is declared to be for.
var BeyondIntent = &audit.Check{
	Name:     "access/beyond-intent",
	Title:    "More is let through than the tunnel is for",
	Severity: audit.Medium,
	Why:      "What is allowed and not intended is what an attacker uses.",
	Mend:     "Narrow the rules to what the estate's toril.yaml declares, or declare what is meant.",
	Doc: audit.Doc{
		What:    "New connections that come out of a child, of all that its selectors allow, are sent through the whole gateway. The check speaks, for tunnels whose intent is declared, where some pass that no declared flow allows, with such a packet.",
		Harm:    "A partner that was to reach one web server reaches the file server beside it.",
		Write:   "tunnels: [{between: [headland, quayside], allow: [{from: 10.2.0.0/16, to: 10.1.0.80, protocol: tcp, ports: 443}]}]",
		Sources: []string{"RFC 4301 section 5.2"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		intended, declared := s.Tunnel.Intended(s.End)
		path, pol := of(p, s)
		if !declared || pol == nil || s.Tunnel.Intent.FullTunnel {
			return
		}
		beyond := pol.Back().Minus(intended.In)
		if beyond.Empty() {
			return
		}
		_, inner := path.Inbound(pol, beyond)
		slices.SortStableFunc(inner, func(a, b walk.Outcome) int { return rank(a) - rank(b) })
		for _, o := range inner {
			if o.Fate != walk.Clear && o.Fate != walk.Delivered {
				continue
			}
			if o.Fate == walk.Delivered && o.Now.Minus(packet.Where(packet.Proto, packet.OneOf(1, 58))).Empty() {
				continue // ICMP to the gateway itself is part of every network
			}
			at := s.Tunnel.Intent.At
			for _, st := range o.Steps {
				if st.Rule != nil {
					at = st.Rule.At
				}
			}
			f := p.On(s, at, false)
			f.Severity = audit.Medium
			w, _ := o.Was().Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("packets come out of %s that it is not declared to be for", s.Child.Name)
			f.Also = []audit.Evidence{{Pos: s.Tunnel.Intent.At, Note: "what the tunnel is for"}}
			f.Undecided(o.Unsure)
			p.Report(f)
			return
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

// rank puts what goes on into the network before what the gateway takes itself.
func rank(o walk.Outcome) int {
	if o.Fate == walk.Clear {
		return 0
	}
	return 1
}

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
