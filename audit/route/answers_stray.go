package route

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/source"
	"toril/walk"
)

// AnswersStray reports where the answers to connections that come out of a tunnel do not go back into it.
var AnswersStray = &audit.Check{
	Name:     "route/answers-stray",
	Title:    "Replies do not go back into the tunnel",
	Severity: audit.High,
	Why:      "The far end's connections arrive here, and the replies are lost, or leave unencrypted by another path.",
	Fix:      "Route the far end's networks back into the tunnel they come from.",
	Doc: audit.Doc{
		What: "New connections that come out of every tunnel, as the far end sends them where it was given, are followed to their " +
			"destination, and their replies back: routes, policies and translation. The check reports where " +
			"a reply is not encrypted by the same connection. What rules drop is reported by access/answers-stopped.",
		Harm:    "One network of the far end was mistyped in a route: its hosts reach the servers here, and no reply comes back.",
		Write:   "ip route add 10.2.0.0/24 dev ipsec0",
		Sources: []string{"RFC 4301 section 5.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !protects(s) {
			return
		}
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || !path.Known() || s.Child.Mode.Value != 0 && len(pol.Wraps) == 0 || learnsInto(path, s, pol) {
			return
		}
		in, known := packet.None(), packet.None()
		for _, c := range path.Crossings(pol) {
			known = known.Or(c.In())
			if slices.ContainsFunc(c.Into, func(o walk.Outcome) bool { return o.Fate == walk.Encrypted }) { // else other checks say it
				in = in.Or(c.In())
			}
		}
		sent, unsure := sent(p, s)
		in = in.Or(sent.And(known.Free(packet.Src, packet.Proto, packet.Sport, packet.Dport, packet.ICMP)).Minus(known))
		_, inner := path.Inbound(pol, in)
		for _, o := range inner {
			if o.Fate != walk.Clear || o.Wrap != nil {
				continue
			}
			for _, a := range path.Answers(pol, o) {
				if a.Filtered() || a.Fate == walk.Unknown ||
					a.Fate == walk.Encrypted && (together(p, s, a.Policy) || beside(path, pol, a.Policy)) ||
					a.Fate == walk.Delivered {
					continue
				}
				f := p.On(s, s.Child.At, false)
				w, _ := a.Was().Witness()
				f.Example = w.String()
				f.Message = fmt.Sprintf("replies to connections out of %s do not go back into it: %s", s.Child.Name, strayed(a))
				if at := routeOf(a); !at.IsZero() {
					f.At = audit.Evidence{Pos: at}
					f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
				}
				f.Rests(a.Doubts, o.Doubts, path.TrafficDoubts(pol))
				if !sent.Minus(known).Empty() {
					f.Rests(unsure)
				}
				p.Report(f)
				return
			}
		}
	},
}

// together reports whether a policy is of a tunnel between the same two gateways.
func together(p *audit.Pass, s *audit.Subject, pol *walk.Policy) bool {
	if pol.Connection == s.Connection {
		return true
	}
	for _, m := range p.Estate.MatchesOfAny(s.Gateway, pol.Connection) {
		if m.Between() == s.Tunnel.Between() {
			return true
		}
	}
	return false
}

// beside reports whether routes lead to some network through the interfaces of both policies: either can take the traffic of the other.
func beside(path *walk.Path, a, b *walk.Policy) bool {
	into := func(pol *walk.Policy, dev string) bool {
		return slices.ContainsFunc(path.Into(pol), func(i *model.Interface) bool { return i.Name == dev })
	}
	for _, r := range path.Gateway.Routes {
		if r.Kind != "unicast" || r.Origin == "connected" || !into(a, r.Dev) {
			continue
		}
		for _, o := range path.Gateway.Routes {
			if o.Kind == "unicast" && o.To == r.To && o.Table == r.Table && into(b, o.Dev) {
				return true
			}
		}
	}
	return false
}

// sent are the packets that the far end of a subject's child lets into the tunnel, as they arrive here.
func sent(p *audit.Pass, s *audit.Subject) (out packet.Set, unsure model.Doubts) {
	end, given := s.Far()
	if !given {
		return out, nil
	}
	unsure = end.Gateway.NetworkDoubts()
	path := p.Walk(end.Gateway)
	for _, k := range s.Tunnel.Counterparts(s.Child) {
		pol := path.Policy(k, s.Tunnel.Own(end), s.Tunnel.Peer(end))
		if pol == nil {
			continue
		}
		for _, c := range path.Crossings(pol) {
			for _, a := range c.Sent {
				out = out.Or(a.To.Now.OnTheWire())
			}
		}
	}
	return out, unsure
}

// strayed says where packets went.
func strayed(o walk.Outcome) string {
	switch {
	case o.Fate == walk.Encrypted:
		return "they go into " + o.Policy.Name
	case o.Fate == walk.Dropped:
		return "they are dropped in " + o.Where
	case o.Out != "":
		return "they leave unencrypted via " + o.Out
	}
	return "they leave unencrypted"
}

// routeOf is the line of the route that packets took; nowhere where the files do not tell, or it is the daemon's.
func routeOf(o walk.Outcome) source.Pos {
	for _, s := range o.Steps {
		if s.Route != nil && s.Stage == "route" {
			return s.Route.At
		}
	}
	return source.Pos{}
}

// learnsInto reports whether a routing protocol runs on an interface of a policy, whose routes the files need not tell.
func learnsInto(path *walk.Path, s *audit.Subject, pol *walk.Policy) bool {
	for _, i := range path.Into(pol) {
		if learns(s.Gateway, i.Name) && !leads(s.Gateway, i.Name, "") {
			return true
		}
	}
	return false
}
