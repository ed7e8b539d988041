package domain

import (
	"fmt"
	"math"
	"slices"

	"toril/audit"
	"toril/gateway"
	"toril/packet"
)

// ClaimedTwice speaks where two tunnels of a gateway are for the same packets.
var ClaimedTwice = &audit.Check{
	Name:     "domain/claimed-twice",
	Title:    "Two tunnels claim the same remote network",
	Severity: audit.High,
	Why:      "One policy takes the packets of both; which one is decided by order and breadth, not by intent.",
	Mend:     "Give each network to one tunnel, or make the tunnels redundant through routes and interfaces of their own.",
	Doc: audit.Doc{
		What:    "The encryption domains of all children of a gateway that go to different peers, pair by pair, where neither is chosen by routes. Tunnels for everything are compared with no other.",
		Harm:    "A new tunnel draws the traffic of an old one; a partner whose selectors are wide receives what was meant for another.",
		Write:   "remote_ts = 10.2.0.0/16 in one connection and 10.3.0.0/16 in the other.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		path := p.Walk(g)
		sets := make([]packet.Set, len(path.Policies))
		for i, pol := range path.Policies {
			if pol.Protects() && pol.IfID == 0 && !pol.Child.Remote.Value.AnyAddress() {
				sets[i] = pol.Domain
			}
		}
		index := packet.NewIndex(sets)
		for i, pol := range path.Policies {
			around, err := index.Around(i)
			if err != nil {
				panic(packet.TooComplex())
			}
			j := around.First(func(j int) bool {
				return j > i && path.Policies[j].Connection != pol.Connection && path.Policies[j].Peer != pol.Peer
			})
			if j < 0 {
				continue
			}
			o := path.Policies[j]
			both := pol.Domain.And(o.Domain)
			f := audit.Finding{Severity: audit.High, Gateway: g.Name, Connection: pol.Connection.Name, Child: pol.Child.Name, At: audit.Evidence{Pos: pol.Child.Remote.Where(pol.Child.At)}}
			w, _ := both.Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("%s and %s are both for %s", pol.Name, o.Name, both)
			f.Also = []audit.Evidence{{Pos: o.Child.Remote.Where(o.Child.At), Note: "the other tunnel"}}
			p.Report(f)
		}
	},
}

// Covered speaks where a child lies within another of the same connection.
var Covered = &audit.Check{
	Name:     "domain/covered",
	Title:    "A child is covered by another",
	Severity: audit.Low,
	Why:      "Its packets may take either child; what was meant to be told apart is not.",
	Mend:     "Take the narrower child out, or the networks of it out of the wider one.",
	Doc: audit.Doc{
		What:    "Children of one connection whose whole encryption domain lies within that of another.",
		Harm:    "The narrower child, with its own algorithms or lifetimes, is used from one side and the wider one from the other.",
		Write:   "One child with both networks, or two that are apart.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		kids := s.Connection.Children
		sets := make([]packet.Set, len(kids))
		for i, k := range kids {
			one := *s
			one.Child = k
			if !one.Shunted() && !k.RouteBased() {
				sets[i] = k.Domain(own, peer)
			}
		}
		index := packet.NewIndex(sets)
		for i, k := range kids {
			around, err := index.Around(i)
			if err != nil {
				panic(packet.TooComplex())
			}
			by, ok, err := around.Covered(func(j int) bool { return j != i && (!sets[i].Contains(sets[j]) || j < i) })
			if err != nil {
				panic(packet.TooComplex())
			}
			if !ok || len(by) != 1 {
				continue
			}
			one := *s
			one.Child = k
			f := p.On(&one, k.Remote.Where(k.Local.Where(k.At)), false)
			f.Severity = audit.Low
			f.Message = fmt.Sprintf("%s lies within %s", k.Name, kids[by[0]].Name)
			f.Also = []audit.Evidence{{Pos: kids[by[0]].At, Note: "the wider child"}}
			p.Report(f)
		}
	},
}

// PublicInside speaks where a domain holds public addresses.
var PublicInside = &audit.Check{
	Name:     "domain/public-inside",
	Title:    "Public addresses inside of the encryption domain",
	Severity: audit.Low,
	Why:      "Networks of others in the selectors are a slip of the keyboard, or draw traffic for the Internet into the tunnel.",
	Mend:     "Correct the network, or say in the estate's toril.yaml that it is meant.",
	Doc: audit.Doc{
		What:    "Selectors with addresses that are neither private (RFC 1918, RFC 4193), shared (RFC 6598) nor for documentation (RFC 5737), without being everything; the tunnel's own addresses are left out. Nothing is said where a declared intent names them.",
		Harm:    "172.61.0.0/16 in place of 172.16.0.0/16: the partner's network never passes, and somebody else's would.",
		Write:   "remote_ts = 172.16.0.0/16",
		Sources: []string{"RFC 1918", "RFC 4193", "RFC 6598"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.RouteBased() {
			return
		}
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		intended := packet.None()
		if in := s.Tunnel.Intent; in != nil {
			for _, a := range in.Allow {
				intended = intended.Or(a.Packets).Or(a.Packets.Mirror())
			}
		}
		for _, side := range []struct {
			what string
			set  gateway.Setting[selectors]
		}{{"local", s.Child.Local}, {"remote", s.Child.Remote}} {
			if side.set.Value.AnyAddress() || side.set.Value.Dynamic() {
				continue
			}
			all := side.set.Value.At(own).Packets()
			public := all.Minus(notPublic).Free(packet.Proto, packet.Sport, packet.ICMP)
			for _, a := range []addr{own, peer} {
				if a.IsValid() {
					public = public.Minus(packet.Range(packet.Src, a, a))
				}
			}
			if public.Empty() || !intended.Empty() && intended.Overlaps(public) {
				continue
			}
			f := p.On(s, side.set.Where(s.Child.At), false)
			f.Severity = audit.Low
			f.Message = fmt.Sprintf("the %s side holds public addresses: %s", side.what, audit.Networks(public, packet.Src))
			p.Report(f)
		}
	},
}

// Wider speaks where the local side is wider than the networks behind the gateway.
var Wider = &audit.Check{
	Name:     "domain/wider-than-networks",
	Title:    "The local side is wider than the networks behind the gateway",
	Severity: audit.Low,
	Why:      "The far end may send to, and expect answers from, networks that are not there; the next network that is added falls into the tunnel by itself.",
	Mend:     "Name the networks that are behind the gateway.",
	Doc: audit.Doc{
		What:    "The local selectors of every child are compared with the networks that the gateway reaches by routes other than its default one, where its routes or interfaces were given. The check speaks where some but not all of the selectors is behind the gateway.",
		Harm:    "10.0.0.0/8 \"to be safe\" on both ends of several tunnels makes every new network a conflict.",
		Write:   "local_ts = 10.1.0.0/24, 10.1.9.0/24 in place of 10.0.0.0/8.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.RouteBased() || s.Child.Local.Value.AnyAddress() || s.Child.Local.Value.Dynamic() {
			return
		}
		path := p.Walk(s.Gateway)
		if !path.Known() || s.PolicyOf(path) == nil {
			return
		}
		there := packet.None()
		to := s.Child.Local.Value.At(s.Tunnel.Own(s.End)).Packets().Free(packet.Proto, packet.Sport, packet.ICMP).Mirror()
		for _, part := range path.OwnRoutes(to.With(packet.In, packet.Name("any"))) {
			if r := part.Route; r != nil && r.To.Bits() > 0 && (r.Kind == "unicast" || r.Kind == "local") {
				there = there.Or(part.Packets)
			}
		}
		there = there.Free(packet.In)
		missing := to.Minus(there)
		if there.Empty() || missing.Empty() || onlyEdges(missing, to) {
			return
		}
		f := p.On(s, s.Child.Local.Where(s.Child.At), false)
		f.Severity = audit.Low
		f.Message = fmt.Sprintf("%s names %s, of which %s is not behind the gateway", s.Child.Name, s.Child.Local.Value, audit.Networks(missing, packet.Dst))
		p.Report(f)
	},
}

// onlyEdges reports whether less than a sixteenth is missing.
func onlyEdges(missing, all packet.Set) bool {
	size := func(s packet.Set) float64 {
		n := 0.0
		for _, p := range s.Prefixes(packet.Dst) {
			n += math.Ldexp(1, p.Addr().BitLen()-p.Bits())
		}
		return n
	}
	return size(missing)*16 < size(all)
}

var notPublic = func() packet.Set {
	var sets []packet.Set
	for _, n := range []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "198.18.0.0/15", "169.254.0.0/16", "224.0.0.0/4", "127.0.0.0/8", "fc00::/7", "fe80::/10", "ff00::/8", "2001:db8::/32", "3fff::/20"} {
		sets = append(sets, packet.Prefixes(packet.Src, mustPrefix(n)))
	}
	return packet.Union(sets...)
}()

// BehindItself speaks where a remote selector is a network behind the gateway itself.
var BehindItself = &audit.Check{
	Name:     "domain/behind-itself",
	Title:    "A remote network is behind this very gateway",
	Severity: audit.High,
	Why:      "The policy draws packets between two inside networks into the tunnel, or the selectors of both sides are changed over.",
	Mend:     "Change local and remote over, or take the network out of the remote side.",
	Doc: audit.Doc{
		What:    "Remote selectors that hold a network of one of the gateway's own interfaces, the one by which the peer is reached left out, where they are not for everything.",
		Harm:    "The tunnel comes up and nothing passes; or hosts of an inside network lose their neighbours the moment it does.",
		Write:   "local_ts is what is behind this gateway, remote_ts what is behind the other.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.RouteBased() || s.Child.Remote.Value.AnyAddress() || s.Child.Remote.Value.Dynamic() {
			return
		}
		remote := s.Child.Remote.Value.At(s.Tunnel.Peer(s.End))
		for _, i := range s.Gateway.Interfaces {
			if i.Kind == "loopback" || i.Kind == "xfrm" || i.Kind == "vti" || i.Kind == "gre" {
				continue
			}
			if k := slices.IndexFunc(i.Addresses, func(a prefix) bool { return remote.Hold(a.Addr()) && a.Bits() < a.Addr().BitLen() }); k >= 0 {
				f := p.On(s, s.Child.Remote.Where(s.Child.At), false)
				f.Severity = audit.High
				f.Message = fmt.Sprintf("the remote side holds %s, the network of %s", i.Addresses[k].Masked(), i.Name)
				f.Also = []audit.Evidence{{Pos: i.At, Note: "the interface"}}
				p.Report(f)
				return
			}
		}
	},
}
