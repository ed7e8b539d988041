package walk

import (
	"toril/model"
	"toril/packet"
)

// opened returns a gateway with the rules that the IKE daemon's script adds to the chains of iptables for children that are up:
// they come first, and accept what belongs to the child (seen in strongSwan's _updown).
func (p *Path) opened(g *model.Gateway) *model.Gateway {
	rules := map[model.Hook][]*model.Rule{}
	for _, pol := range p.Policies {
		k := pol.Child
		if !pol.Up || !pol.Protects() || !k.Opens.Value {
			continue
		}
		accept := func(h model.Hook, s packet.Set) {
			rules[h] = append(
				rules[h],
				&model.Rule{At: k.Opens.Where(k.At), When: s, Verb: model.Accept, Comment: Opened},
			)
		}
		out := pol.Domain.Free(packet.Mark, packet.ConnMark).And(Peered(packet.PeerOut, pol.Peer))
		in := pol.back.And(Peered(packet.PeerIn, pol.Peer))
		accept(model.Forward, out)
		accept(model.Forward, in)
		if k.OpensHost.Value {
			accept(model.Output, out)
			accept(model.Input, in)
		}
	}
	if len(rules) == 0 {
		return g
	}
	with := &model.Gateway{Name: g.Name, Connections: g.Connections, Interfaces: g.Interfaces, Order: g.Order}
	for _, c := range g.Chains {
		if added := rules[c.Hook]; len(added) > 0 && c.Kind == model.FilterChain && opens(c) {
			c = withFirst(c, added)
			delete(rules, c.Hook)
		}
		with.Chains = append(with.Chains, c)
	}
	return with // a filter without such chains accepts nothing that another drops
}

// Opened is the comment of rules that are in no file: what a child opens in the packet filter while it is up.
const Opened = "added by the IKE daemon"

// opens reports whether what a child opens is opened in a chain: those of iptables, where the daemon's script works, and those of devices
// whose access rules are not asked about tunnels.
func opens(c *model.Chain) bool { return c.Opened || c.Family == "ip" && c.Table == "filter" }

// withFirst returns a chain with rules in front of its own.
func withFirst(c *model.Chain, added []*model.Rule) *model.Chain {
	d := *c
	d.Rules = append(added, c.Rules...)
	for i, r := range added {
		r.Of, r.Index = c, i-len(added)
	}
	return &d
}
