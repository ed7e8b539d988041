package nat

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/gateway"
	"toril/ike"
	"toril/packet"
	"toril/source"
	"toril/walk"
)

// postrouting returns the nat chains of source translation.
func postrouting(g *gateway.Gateway) []*gateway.Chain {
	return slices.DeleteFunc(slices.Clone(g.Chains), func(c *gateway.Chain) bool { return c.Kind != gateway.NATChain || c.Hook != gateway.Postrouting })
}

// exempts reports whether a rule lets packets pass a nat chain untouched.
func exempts(r *gateway.Rule) bool { return r.Verb == gateway.Accept || r.Verb == gateway.Return }

// addresses keeps of a set what it says about addresses, protocols and ports.
func addresses(s packet.Set) packet.Set {
	return s.Free(packet.In, packet.Out, packet.State, packet.Direction, packet.Translated, packet.Mark, packet.PeerIn, packet.PeerOut)
}

// LateExemption speaks where an exemption stands behind the rule that translates.
var LateExemption = &audit.Check{
	Name:     "nat/late-exemption",
	Title:    "The NAT exemption stands after the rule that translates",
	Severity: audit.High,
	Why:      "In a nat chain the first rule that fits decides; the exemption is never reached.",
	Mend:     "Move the exemption before the translation.",
	Doc: audit.Doc{
		What:    "Rules of a source NAT chain that would let packets of an encryption domain pass, all of which an earlier rule of the chain translates.",
		Harm:    "The rule is there, so that everybody believes the exemption is; the traffic leaves in clear all the same.",
		Write:   "ip daddr 10.2.0.0/16 accept before oifname \"wan0\" masquerade.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		path := p.Walk(g)
		for _, c := range postrouting(g) {
			for i, r := range c.Rules {
				if !exempts(r) || r.When.Empty() {
					continue
				}
				for _, pol := range path.Policies {
					mine := path.Domain(pol).Now.And(addresses(r.When))
					if mine.Empty() || !mentions(r, pol) {
						continue
					}
					for _, earlier := range c.Rules[:i] {
						if earlier.Verb.Translates() && earlier.Certain() && addresses(earlier.When).Contains(addresses(mine)) && !earlier.When.And(walk.Peered(packet.PeerOut, pol.Peer)).Empty() {
							f := audit.Finding{Severity: audit.High, Gateway: g.Name, Connection: pol.Connection.Name, Child: pol.Child.Name, At: audit.Evidence{Pos: r.At}}
							f.Message = fmt.Sprintf("this exemption for %s is never reached: an earlier rule translates its packets", pol.Child.Name)
							f.Also = []audit.Evidence{{Pos: earlier.At, Note: "the rule that translates"}}
							p.Report(f)
							break
						}
					}
				}
			}
		}
	},
}

// mentions reports whether a rule speaks of a policy's networks, and not of everything.
func mentions(r *gateway.Rule, pol *walk.Policy) bool {
	return !addresses(r.When).Contains(packet.Only(packet.IPv4)) || !r.When.Contains(packet.Only(packet.IPv4))
}

// WideExemption speaks where an exemption lets more pass than tunnels protect.
var WideExemption = &audit.Check{
	Name:     "nat/wide-exemption",
	Title:    "The NAT exemption is wider than the tunnels",
	Severity: audit.Medium,
	Why:      "What it exempts and no tunnel protects leaves with its private source, and no answer finds its way back.",
	Mend:     "Narrow the exemption to the encryption domains, or write it by policy: rt ipsec exists accept.",
	Doc: audit.Doc{
		What:    "Rules of a source NAT chain that let packets pass untouched which a later rule of the chain would translate, and which belong to no encryption domain. A packet is shown for which it is so.",
		Harm:    "Private addresses leak to the provider; hosts that the rule was not meant for lose the Internet.",
		Write:   "ip saddr 10.1.0.0/16 ip daddr 10.2.0.0/16 accept in place of ip daddr 10.0.0.0/8 accept.",
		Sources: []string{"RFC 1918", "nft(8)"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		path := p.Walk(g)
		if len(path.Policies) == 0 {
			return
		}
		domains := packet.None()
		for _, pol := range path.Policies {
			domains = domains.Or(pol.Domain)
		}
		for _, c := range postrouting(g) {
			for i, r := range c.Rules {
				if !exempts(r) || !r.Certain() || !touches(path, r) || packet.Where(packet.Proto, packet.OneOf(50, 51)).Contains(r.When) {
					continue
				}
				clear := r.When.And(packet.Where(packet.PeerOut, packet.OneOf(0))).Minus(domains)
				clear = clear.Minus(packet.Where(packet.In, packet.Name(""))) // the gateway's own
				for _, before := range c.Rules[:i] {
					if before.Certain() && before.Verb.Final() {
						clear = clear.Minus(before.When)
					}
				}
				private := clear.And(privateSources)
				for _, later := range c.Rules[i+1:] {
					if !later.Verb.Translates() || !later.Certain() {
						continue
					}
					leak := private.And(later.When)
					if leak.Empty() || internal(path, leak) {
						continue
					}
					f := audit.Finding{Severity: audit.Medium, Gateway: g.Name, At: audit.Evidence{Pos: r.At}}
					w, _ := addresses(leak).Witness()
					f.Example = w.String()
					f.Message = "the exemption takes packets out of NAT that no tunnel protects: they leave with their private source"
					f.Also = []audit.Evidence{{Pos: later.At, Note: "the rule that would have translated them"}}
					p.Report(f)
					break
				}
			}
		}
	},
}

// touches reports whether a rule has to do with any policy's domain.
func touches(path *walk.Path, r *gateway.Rule) bool {
	return slices.ContainsFunc(path.Policies, func(pol *walk.Policy) bool {
		return pol.Domain.Overlaps(addresses(r.When)) && !r.When.Contains(packet.Only(packet.IPv4))
	})
}

var privateSources = func() packet.Set {
	var sets []packet.Set
	for _, n := range private {
		sets = append(sets, packet.Prefixes(packet.Src, n))
	}
	return packet.Union(sets...)
}()

// internal reports whether packets only go to networks that the gateway reaches by other than its default route.
func internal(path *walk.Path, s packet.Set) bool {
	if !path.Known() {
		return false
	}
	for _, part := range path.Routes(addresses(s).With(packet.In, packet.Name("any"))) {
		if part.Route == nil || part.Route.To.Bits() == 0 {
			return false
		}
	}
	return true
}

// NarrowExemption speaks where an exemption covers a part of a domain only.
var NarrowExemption = &audit.Check{
	Name:     "nat/narrow-exemption",
	Title:    "The NAT exemption covers a part of the encryption domain only",
	Severity: audit.High,
	Why:      "The rest of the domain is translated and leaves in clear: some hosts or networks work through the tunnel, the others do not.",
	Mend:     "Widen the exemption to every network of the child, or write it by policy: rt ipsec exists accept.",
	Doc: audit.Doc{
		What:    "Children of which some packets pass source NAT untouched by an exemption, and others are translated.",
		Harm:    "One subnet was added to the tunnel and forgotten in the exemption; its packets go out to the Internet.",
		Write:   "ip saddr { 10.1.0.0/24, 10.1.9.0/24 } ip daddr 10.2.0.0/16 accept",
		Sources: []string{"nft(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		c := s.Child
		rewrites, ok := p.Walk(s.Gateway).Rewrites(c, s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End))
		if !ok || len(rewrites) == 0 {
			return
		}
		own := s.Tunnel.Own(s.End)
		domain := addresses(c.Domain(own, s.Tunnel.Peer(s.End)))
		for _, chain := range postrouting(s.Gateway) {
			for _, r := range chain.Rules {
				if !exempts(r) || !r.Certain() {
					continue
				}
				part := domain.And(addresses(r.When))
				if part.Empty() || part.Equal(domain) {
					continue
				}
				for _, w := range rewrites {
					lost := addresses(w.Was).Minus(part)
					if lost.Empty() || len(w.Unsure) > 0 || w.Rule.Index < r.Index && w.Rule.Of == chain {
						continue
					}
					f := p.On(s, r.At, false)
					f.Severity = audit.High
					example, _ := lost.Witness()
					f.Example = example.String()
					f.Message = fmt.Sprintf("the exemption covers %s, and not the rest of %s", part, c.Name)
					f.Also = []audit.Evidence{{Pos: w.Rule.At, Note: "the rule that translates the rest"}, {Pos: c.Local.Where(c.Remote.Where(c.At)), Note: "the networks of the child"}}
					p.Report(f)
					return
				}
			}
		}
	},
}

// LeftoverExemption speaks where an exemption is for networks that no tunnel has.
var LeftoverExemption = &audit.Check{
	Name:     "nat/leftover-exemption",
	Title:    "A NAT exemption for a tunnel that no longer exists",
	Severity: audit.Low,
	Why:      "Nothing protects what it exempts; it waits to leak private addresses, and puzzles whoever reads the rules.",
	Mend:     "Take the exemption out with the tunnel.",
	Doc: audit.Doc{
		What:    "Rules of a source NAT chain that let packets between private networks pass untouched which no child of the gateway protects, where the destination is not reached by a route of its own.",
		Harm:    "After the tunnel was moved to another gateway, packets for the old partner leave untranslated by the default route.",
		Write:   "nothing: delete the rule.",
		Sources: []string{"RFC 1918"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		path := p.Walk(g)
		for _, c := range postrouting(g) {
			translates := slices.ContainsFunc(c.Rules, func(r *gateway.Rule) bool { return r.Verb.Translates() })
			for _, r := range c.Rules {
				if !exempts(r) || !r.Certain() || !translates {
					continue
				}
				to := r.When.Prefixes(packet.Dst)
				if len(to) == 0 || len(to) > 64 || slices.ContainsFunc(to, func(n prefix) bool { return n.Bits() < 8 || !n.Addr().IsPrivate() }) {
					continue
				}
				if slices.ContainsFunc(path.Policies, func(pol *walk.Policy) bool { return pol.Domain.Overlaps(addresses(r.When)) }) || internal(path, r.When) || len(path.Policies) == 0 && !path.Known() {
					continue
				}
				f := audit.Finding{Severity: audit.Low, Gateway: g.Name, At: audit.Evidence{Pos: r.At}}
				f.Message = "this exempts private networks from NAT that no tunnel of the gateway protects"
				p.Report(f)
			}
		}
	},
}

// DestinationBends speaks where destination NAT moves packets into an encryption domain or out of it.
var DestinationBends = &audit.Check{
	Name:     "nat/destination-bends",
	Title:    "Destination NAT bends traffic into or out of a tunnel",
	Severity: audit.Medium,
	Why:      "The IPsec policy sees the destination after the translation: what was for the tunnel leaves in clear, or what was not goes into it.",
	Mend:     "Restrict the translation to the addresses that it is for, or to the interface that it is for.",
	Doc: audit.Doc{
		What:    "The packets of every child are sent through prerouting; and the targets of destination NAT are compared with the domains.",
		Harm:    "A port forward that names no destination catches the tunnel's traffic for that port; a forward to a host at the far end opens the partner's network to the Internet.",
		Write:   "iifname \"wan0\" ip daddr 198.51.100.1 tcp dport 443 dnat to 10.1.0.80",
		Sources: []string{"nft(8)", "RFC 4301 section 5.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || s.Shunted() {
			return
		}
		flow := path.Domain(pol)
		for _, v := range path.Filter().Through(gateway.Prerouting, flow) {
			if v.Verb != gateway.DestinationNAT && v.Verb != gateway.Redirect || v.Rule == nil {
				continue
			}
			if pol.Domain.Contains(v.Now.Free(packet.In, packet.Out, packet.State, packet.Direction, packet.Translated, packet.PeerIn, packet.PeerOut)) {
				continue
			}
			f := p.On(s, v.Rule.At, false)
			f.Severity = audit.Medium
			w, _ := v.Was().Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("packets of %s are given another destination, outside of the tunnel", s.Child.Name)
			f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
			f.Undecided(v.Unsure)
			p.Report(f)
			return
		}
		for _, c := range s.Gateway.Chains {
			if c.Kind != gateway.NATChain || c.Hook != gateway.Prerouting {
				continue
			}
			for _, r := range c.Rules {
				if r.Verb != gateway.DestinationNAT || r.To.Addrs.Empty() {
					continue
				}
				into := packet.Only(r.To.Family).With(packet.Dst, r.To.Addrs).And(s.Child.Remote.Value.At(pol.Peer).Packets().Free(packet.Proto, packet.Sport, packet.ICMP).Mirror())
				if into.Empty() {
					continue
				}
				f := p.On(s, r.At, false)
				f.Severity = audit.Medium
				f.Message = fmt.Sprintf("destination NAT to %s leads into %s, to the far end", r.To.Text, s.Child.Name)
				f.Also = []audit.Evidence{{Pos: s.Child.Remote.Where(s.Child.At), Note: "the remote networks of the child"}}
				p.Report(f)
				return
			}
		}
	},
}

// OuterRewritten speaks where the ESP packets themselves are translated.
var OuterRewritten = &audit.Check{
	Name:     "nat/outer-rewritten",
	Title:    "The ESP packets themselves are translated",
	Severity: audit.High,
	Why:      "Encrypted packets go through source NAT once more: with another source the peer does not take them for the tunnel's.",
	Mend:     "Exempt ESP: meta l4proto esp accept before the translation, or translate to the tunnel's own address.",
	Doc: audit.Doc{
		What:    "The ESP packets of every child, from the own tunnel address to the peer's, are routed and sent through output and postrouting.",
		Harm:    "The tunnel is up and the counters rise on this side; on the other nothing arrives, as the SA is for another address.",
		Write:   "meta l4proto esp accept, then oifname \"wan0\" snat to 198.51.100.2.",
		Sources: []string{"RFC 4303", "nft(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || s.Shunted() {
			return
		}
		for _, o := range path.Outer(pol) {
			w, ok := o.Now.Witness()
			if o.Fate != walk.Clear || !ok || w.Src == pol.Own {
				continue
			}
			f := p.On(s, last(o), false)
			f.Severity = audit.High
			f.Message = fmt.Sprintf("the ESP packets of %s leave from %s and not from %s", s.Child.Name, w.Src, pol.Own)
			f.Also = []audit.Evidence{{Pos: s.Connection.LocalAddrs.Where(s.Connection.At), Note: "the own tunnel address"}}
			f.Undecided(o.Unsure)
			p.Report(f)
			return
		}
	},
}

func last(o walk.Outcome) source.Pos {
	for i := len(o.Steps) - 1; i >= 0; i-- {
		if r := o.Steps[i].Rule; r != nil && r.Verb.Translates() {
			return r.At
		}
	}
	return source.Pos{}
}

// NoEncapsulation speaks where a gateway behind NAT could not use UDP.
var NoEncapsulation = &audit.Check{
	Name:     "nat/no-encapsulation",
	Title:    "Behind NAT, and port 4500 is closed",
	Severity: audit.Medium,
	Why:      "ESP has no ports that NAT could tell apart: through NAT it must go in UDP port 4500.",
	Mend:     "Let UDP port 4500 out to the peer and in from it.",
	Doc: audit.Doc{
		What:    "Connections that speak from a private address to a public one, on gateways whose filter does not let UDP port 4500 out, or use the authentication header, which no NAT leaves valid.",
		Harm:    "IKE comes up as far as the second message and stops; or AH is dropped by the peer for its checksum.",
		Write:   "udp dport 4500 accept in the output chain.",
		Sources: []string{"RFC 3948", "RFC 3715"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		if !own.IsValid() || !peer.IsValid() || !own.IsPrivate() || peer.IsPrivate() || own.BitLen() != peer.BitLen() {
			return
		}
		for _, k := range s.Connection.Children {
			if k.Protocol.Value == ike.AH {
				f := p.On(s, k.Proposals.Where(k.At), false)
				f.Severity = audit.High
				f.Message = "the authentication header does not survive NAT, and this gateway is behind one"
				p.Report(f)
				return
			}
		}
		path := p.Walk(s.Gateway)
		set := packet.Range(packet.Src, own, own).And(packet.Range(packet.Dst, peer, peer)).With(packet.Proto, packet.OneOf(17)).With(packet.Sport, packet.OneOf(4500)).With(packet.Dport, packet.OneOf(4500))
		for _, o := range path.Local(set) {
			if o.Fate != walk.Dropped || o.Where == "route" {
				continue
			}
			f := p.On(s, o.Decided(s.Connection.At), false)
			f.Severity = audit.Medium
			f.Message = fmt.Sprintf("%s is behind NAT (%s to %s), and UDP port 4500 is not let out", s.Gateway.Name, own, peer)
			f.Undecided(o.Unsure)
			p.Report(f)
			return
		}
	},
}
