package access

import (
	"fmt"
	"slices"
	"sync"

	"toril/audit"
	"toril/packet"
	"toril/pair"
	"toril/walk"
)

// BeyondIntent reports where the gateways let more through a tunnel than it is declared to be for.
var BeyondIntent = &audit.Check{
	Name:     "access/beyond-intent",
	Title:    "More is allowed than the tunnel is for",
	Severity: audit.Medium,
	Why:      "What is allowed and not intended is what an attacker uses.",
	Fix:      "Narrow the rules to what the estate's toril.yaml declares, or declare what is meant.",
	PartOf: []audit.Part{
		{Of: "access/beyond-intent", By: audit.SameLine},
		{Of: "access/any-from-tunnel", By: audit.SameLine},
		{Of: "access/blanket", By: audit.SameLine},
	},
	Doc: audit.Doc{
		What: "New connections that come out of a child, of all that its selectors allow, are sent through the whole gateway. For " +
			"tunnels whose intent is declared, the check reports where some pass that no declared flow allows, with such a packet.",
		Harm:    "A partner that was to reach one web server reaches the file server beside it.",
		Write:   "tunnels: [{between: [headland, quayside], allow: [{from: 10.2.0.0/16, to: 10.1.0.80, protocol: tcp, ports: 443}]}]",
		Sources: []string{"RFC 4301 section 5.2"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		intended, declared := meant(path, pol, s)
		if !declared || pol == nil || s.Tunnel.Intent.FullTunnel {
			return
		}
		beyond := carried(path, pol).Minus(intended.In)
		if beyond.Empty() {
			return
		}
		_, inner := path.Inbound(pol, beyond)
		slices.SortStableFunc(inner, func(a, b walk.Outcome) int { return rank(a) - rank(b) })
		for _, o := range inner {
			if o.Fate != walk.Clear && o.Fate != walk.Delivered {
				continue
			}
			if o.Fate == walk.Delivered && o.Now.Minus(toTheGateway()).Empty() {
				continue
			}
			at := s.Tunnel.Intent.At
			for _, st := range o.Steps {
				if st.Rule != nil {
					at = st.Rule.At
				}
			}
			f := p.On(s, at, false)
			w, _ := o.Was().Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("traffic that is not declared comes out of %s", s.Child.Name)
			f.Also = []audit.Evidence{{Pos: s.Tunnel.Intent.At, Note: "what the tunnel is for"}}
			f.Rests(o.Doubts, path.TrafficDoubts(pol))
			p.Report(f)
			return
		}
	},
}

// toTheGateway is what every network sends to its gateway, and nobody declares: ICMP, and IKE and ESP where peers have no fixed
// address.
var toTheGateway = sync.OnceValue(func() packet.Set {
	return packet.Union(
		packet.Where(packet.Proto, packet.OneOf(1, 50, 51, 58)),
		packet.Where(packet.Proto, packet.OneOf(17)).And(packet.Where(packet.Dport, packet.OneOf(500, 4500))),
	)
})

// carried are the packets that may come out of a policy's tunnel.
func carried(path *walk.Path, pol *walk.Policy) packet.Set {
	if len(path.Into(pol)) > 0 {
		return path.Traffic(pol).Mirror()
	}
	return pol.Back()
}

// meant is what is declared of a subject's tunnel, seen from its end.
func meant(path *walk.Path, pol *walk.Policy, s *audit.Subject) (pair.Meant, bool) {
	if pol != nil && len(pol.Wraps) > 0 {
		return s.Tunnel.Meant(path.Traffic(pol))
	}
	return s.Tunnel.Intended(s.End)
}

// rank puts what goes on into the network before what the gateway takes itself.
func rank(o walk.Outcome) int {
	if o.Fate == walk.Clear {
		return 0
	}
	return 1
}
