package walk

import (
	"slices"

	"toril/model"
	"toril/packet"
)

// Rewrite is a source translation that packets for a tunnel meet before they are encrypted.
type Rewrite struct {
	Rule   *model.Rule
	Was    packet.Set   // the packets that it meets
	Before *model.Rule  // moves them onto the tunnel's networks, where they meet it first; nil where they need none
	Leaves bool         // some of them are no longer for the tunnel afterwards: they leave in the clear
	Doubts model.Doubts // why some of the packets may fare otherwise
}

// Rewrites returns the source translations that a policy's packets meet in the postrouting hook, in the order of the rules.
// doubts are why other packets of the policy may meet one too. ok is false where the question does not arise: the gateway's filter was not
// given, or nothing leads into the tunnel.
func (p *Path) Rewrites(pol *Policy) (out []Rewrite, doubts model.Doubts, ok bool) {
	if pol == nil || !pol.Protects() || len(p.Gateway.Chains) == 0 || len(pol.Wraps) == 0 && pol.Device == nil && pol.Child.RouteBased() {
		return nil, nil, false
	}
	if p.Gateway.Order.TunnelFirst { // what a tunnel takes is not translated
		return nil, nil, true
	}
	into := p.Into(pol)
	domain := p.Traffic(pol)
	if pol.Own.IsValid() { // the gateway's own packets are another matter
		domain = domain.Minus(packet.Range(packet.Src, pol.Own, pol.Own))
	}
	start := Plain(domain).Minus(made)
	switch {
	case len(into) > 0:
		start = start.With(packet.Out, packet.Name(into[0].Name))
	default:
		if outside, told := p.Outside(pol.Own, pol.Peer); told {
			start = start.With(packet.Out, outside)
		}
	}
	if len(into) == 0 {
		start = start.And(Peered(packet.PeerOut, pol.Peer))
	} else {
		start = start.With(packet.PeerOut, packet.OneOf(0))
	}
	for _, v := range p.filter.Through(model.Postrouting, Start(start)) {
		if v.Rule == nil || v.Verb != model.SourceNAT && v.Verb != model.Masquerade {
			doubts.Add(v.Doubts...)
			continue
		}
		i := slices.IndexFunc(out, func(r Rewrite) bool { return r.Rule == v.Rule })
		if i < 0 {
			i = len(out)
			out = append(out, Rewrite{Rule: v.Rule})
		}
		r := &out[i]
		r.Was = r.Was.Or(v.Was())
		addresses := v.Now.Free(
			packet.State,
			packet.Direction,
			packet.Translated,
			packet.PeerOut,
			packet.In,
			packet.Out,
			packet.Mark,
			packet.ConnMark,
		)
		r.Leaves = r.Leaves || len(pol.Wraps) == 0 && !pol.Domain.Free(packet.Mark, packet.ConnMark).Contains(addresses)
		r.Doubts.Add(v.Doubts...)
	}
	for _, c := range p.filter.Bases(model.Postrouting) {
		if c.Kind != model.NATChain {
			continue
		}
		for _, r := range c.Rules { // it may move a network onto the tunnel's
			if r.Doubts.Unread() {
				doubts.Add(r.Doubts...)
			}
		}
	}
	return append(out, p.instead(pol, domain)...), doubts, true
}

// instead returns the source translations that packets meet which another rule should have moved onto the tunnel's networks.
func (p *Path) instead(pol *Policy, domain packet.Set) (out []Rewrite) {
	_, before := p.beforeMappings(domain)
	for _, m := range before {
		for _, o := range p.ForwardAll(p.Entering(pol, m.packets)) {
			rule, _ := o.Decisive()
			if o.Fate != Clear || rule == nil || rule.Verb != model.SourceNAT && rule.Verb != model.Masquerade {
				continue
			}
			i := slices.IndexFunc(out, func(r Rewrite) bool { return r.Rule == rule && r.Before == m.rule })
			if i < 0 {
				i = len(out)
				out = append(out, Rewrite{Rule: rule, Before: m.rule, Leaves: true})
			}
			out[i].Was = out[i].Was.Or(o.Was())
			out[i].Doubts.Add(o.Doubts...)
		}
	}
	return out
}
