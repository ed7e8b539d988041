package walk

import (
	"net/netip"
	"slices"

	"toril/gateway"
	"toril/ike"
	"toril/packet"
)

// Rewrite is a source translation that packets of an encryption domain meet before they are encrypted.
type Rewrite struct {
	Rule   *gateway.Rule
	Was    packet.Set // the packets that it meets
	Leaves bool       // some of them are outside of the domain afterwards: they leave in clear
	Unsure []string   // conditions that cannot be decided from the files
}

// Rewrites returns the source translations that a child's packets meet in the postrouting hook, in the order of the
// rules. own and peer are the IKE addresses, as far as they are known. ok is false where the question does not arise:
// the gateway's filter was not given, or the child's packets are not chosen by its selectors.
func (p *Path) Rewrites(c *gateway.Child, own, peer netip.Addr) (out []Rewrite, ok bool) {
	if c.Mode.Value == ike.Pass || c.Mode.Value == ike.Drop || c.RouteBased() || !c.Policies.Value || len(p.Gateway.Chains) == 0 {
		return nil, false
	}
	domain := c.Domain(own, peer)
	if own.IsValid() { // the gateway's own packets are another matter
		domain = domain.Minus(packet.Range(packet.Src, own, own))
	}
	start := Plain(domain.And(Peered(packet.PeerOut, peer))).Free(packet.Mark).Minus(packet.Where(packet.In, packet.Name("")))
	if outside, told := p.Outside(own, peer); told {
		start = start.With(packet.Out, outside)
	}
	for _, v := range p.filter.Through(gateway.Postrouting, Start(start)) {
		if v.Rule == nil || v.Verb != gateway.SourceNAT && v.Verb != gateway.Masquerade {
			continue
		}
		i := slices.IndexFunc(out, func(r Rewrite) bool { return r.Rule == v.Rule })
		if i < 0 {
			i = len(out)
			out = append(out, Rewrite{Rule: v.Rule})
		}
		r := &out[i]
		r.Was = r.Was.Or(v.Was())
		addresses := v.Now.Free(packet.State, packet.Direction, packet.Translated, packet.PeerOut, packet.In, packet.Out, packet.Mark)
		r.Leaves = r.Leaves || !domain.Contains(addresses)
		for _, u := range v.Unsure {
			if !slices.Contains(r.Unsure, u) {
				r.Unsure = append(r.Unsure, u)
			}
		}
	}
	return out, true
}
