package access

import (
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/source"
	"toril/walk"
)

// AnyFromTunnel reports where everything that comes out of a tunnel may go everywhere.
var AnyFromTunnel = &audit.Check{
	Name:     "access/any-from-tunnel",
	Title:    "All traffic from the tunnel is allowed",
	Severity: audit.High,
	Why:      "Anyone who controls the far end, or breaks into it, reaches every port of every host behind this gateway.",
	Fix:      "Allow the protocols and hosts that the tunnel is for, and drop the rest with a log.",
	PartOf: []audit.Part{
		{Of: "access/any-from-tunnel", By: audit.SameLine},
	},
	Doc: audit.Doc{
		What: "The packets that come out of a child, of all protocols and to all ports, are sent through the forward hook as new " +
			"connections. The check reports where one " +
			"rule, or the policy, accepts whole addresses with every protocol.",
		Harm: "A tunnel to a partner is a door into the network; an any-to-any rule \"for now\" leaves it open for good.",
		Write: "In nftables: meta ipsec exists ip saddr 10.2.0.0/24 ip daddr 10.1.0.10 tcp dport 443 accept, then meta ipsec " +
			"exists log drop.",
		Sources: []string{"RFC 4301 section 5.2", "NIST SP 800-77 Rev. 1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		c := s.Child
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		filter := path.Filter()
		bases := filter.Bases(model.Forward)
		if len(bases) == 0 {
			return // access/default-accept says that there is no filter
		}
		in := path.Emerging(pol, path.Traffic(pol).Mirror())
		all := fromTunnel(filter, in)
		for _, v := range all {
			rule, at, ok := acceptedBy(v, bases)
			if !ok || !whole(v.Was(), in) {
				continue
			}
			f := p.On(s, at, false)
			f.Rests(v.Doubts, s.SelectorDoubts(), path.TrafficDoubts(pol))
			example, _ := v.Now.Witness()
			f.Example = example.String()
			f.Message = "the chain's policy allows every protocol and port from the tunnel"
			switch {
			case rule != nil && rule.Comment == walk.Opened:
				f.Message = "the packet filter is not asked about the tunnel while it is up: every protocol and port is allowed from it"
			case rule != nil:
				f.Message = "the rule allows every protocol and port from the tunnel"
			}
			f.Also = []audit.Evidence{{Pos: c.Remote.Where(c.At), Note: "the remote networks of the child"}}
			p.Report(f)
			return
		}
		together(p, s, all, in, bases)
	},
}

// together reports where several rules allow everything that programs use, each a part of it.
func together(p *audit.Pass, s *audit.Subject, all []walk.Verdict, in packet.Set, bases []*model.Chain) {
	used := packet.Only(packet.IPv4).With(packet.Proto, packet.OneOf(1, 6, 17)).
		Or(packet.Only(packet.IPv6).With(packet.Proto, packet.OneOf(6, 17, 58)))
	accepted := packet.None()
	var doubts model.Doubts
	var at []source.Pos
	for _, v := range all {
		rule, pos, ok := acceptedBy(v, bases)
		if !ok || rule == nil || !v.Was().Overlaps(used) { // a policy is access/default-accept's
			continue
		}
		accepted = accepted.Or(v.Was())
		doubts.Add(v.Doubts...)
		if !slices.Contains(at, pos) {
			at = append(at, pos)
		}
	}
	if len(at) < 2 || !whole(accepted, in.And(used)) {
		return
	}
	f := p.On(s, at[0], false)
	f.Message = "the rules together allow ICMP and every port of TCP and UDP from the tunnel"
	for _, pos := range at[1:min(len(at), 4)] {
		f.Also = append(f.Also, audit.Evidence{Pos: pos, Note: "another of the rules"})
	}
	path := p.Walk(s.Gateway)
	f.Rests(doubts, s.SelectorDoubts(), path.TrafficDoubts(s.PolicyOf(path)))
	p.Report(f)
}

// fromTunnel sends packets that came out of a tunnel through the rules of prerouting, which may mark them, and of forward.
func fromTunnel(filter *walk.Filter, in packet.Set) (out []walk.Verdict) {
	for _, v := range filter.Through(model.Prerouting, walk.Start(in)) {
		if v.Verb == model.Accept || v.Verb.Translates() {
			out = append(out, filter.Through(model.Forward, v.Flow)...)
		}
	}
	return out
}

// acceptedBy names the last rule that accepted a flow, or the chain whose policy did.
func acceptedBy(v walk.Verdict, bases []*model.Chain) (*model.Rule, source.Pos, bool) {
	if v.Verb != model.Accept {
		return nil, source.Pos{}, false
	}
	for i := len(v.Steps) - 1; i >= 0; i-- {
		if r := v.Steps[i].Rule; r != nil && r.Verb == model.Accept && v.Steps[i].Stage == bases[0].Hook.String() {
			return r, r.At, true
		}
	}
	last := bases[len(bases)-1]
	return nil, last.Policy.Where(last.At), true
}

// whole reports whether a set holds, for some pair of addresses of in, every protocol and port.
func whole(s, in packet.Set) bool {
	for _, part := range s.Parts() {
		w, ok := part.Witness()
		if !ok {
			continue
		}
		pair := in.And(packet.Range(packet.Src, w.Src, w.Src)).And(packet.Range(packet.Dst, w.Dst, w.Dst)).
			With(packet.In, packet.Name(w.In)).With(packet.Out, packet.Name(w.Out))
		if w.In == "" {
			pair = in.And(packet.Range(packet.Src, w.Src, w.Src)).And(packet.Range(packet.Dst, w.Dst, w.Dst))
			pair = pair.Free(packet.In, packet.Out).With(packet.In, packet.Name("any")).With(packet.Out, packet.Name("any"))
			s = s.Free(packet.In, packet.Out)
		}
		if s.Contains(pair) {
			return true
		}
	}
	return false
}
