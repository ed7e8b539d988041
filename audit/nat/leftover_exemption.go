package nat

import (
	"net/netip"
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/packet"
)

// LeftoverExemption reports where an exemption is for networks that no tunnel has.
var LeftoverExemption = &audit.Check{
	Name:     "nat/leftover-exemption",
	Title:    "A NAT exemption for a tunnel that no longer exists",
	Severity: audit.Low,
	Why:      "Nothing protects what it exempts; it leaks private addresses and misleads anyone who reads the rules.",
	Fix:      "Remove the exemption together with the tunnel.",
	Suggest:  audit.Rules(audit.RemoveStatement),
	Doc: audit.Doc{
		What: "Rules of a source NAT chain that exempt packets between private networks which no child of the gateway protects, " +
			"where the destination is not reached by a route of its own.",
		Harm:    "After the tunnel was moved to another gateway, packets for the old partner leave untranslated by the default route.",
		Write:   "nothing: delete the rule.",
		Sources: []string{"RFC 1918"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		path := p.Walk(g)
		for _, c := range postrouting(g) {
			translates := slices.ContainsFunc(c.Rules, func(r *model.Rule) bool { return r.Verb.Translates() })
			for _, r := range c.Rules {
				if !exempts(r) || !r.Certain() || !translates {
					continue
				}
				to := r.When.Prefixes(packet.Dst)
				if len(to) == 0 || len(to) > 64 ||
					slices.ContainsFunc(to, func(n netip.Prefix) bool { return n.Bits() < 8 || !n.Addr().IsPrivate() }) {
					continue
				}
				if meets(path, r.When.OnTheWire()) ||
					wanted(p, g, r) ||
					internal(path, r.When) ||
					len(path.Policies) == 0 && !path.Known() {
					continue
				}
				f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: r.At}}
				f.Message = "this exempts private networks that no tunnel of the gateway protects from NAT"
				f.Rests(path.IKEDoubts())
				f.Reasons = append(f.Reasons, p.Elsewhere(g)...)
				p.Report(f)
			}
		}
	},
}

// wanted reports whether another gateway has a connection to this one for what a rule exempts: the rule is not left over, but its
// connection is missing.
func wanted(p *audit.Pass, g *model.Gateway, r *model.Rule) bool {
	exempt := r.When.OnTheWire()
	for _, m := range p.Estate.MatchesOf(g) {
		if m.Toward == nil || m.Toward.Number != g.Number {
			continue
		}
		for _, k := range m.Sides[0].Connection.Children {
			if ike.Domain(k.Local, k.Remote, m.Own(0), m.Peer(0)).Mirror().Overlaps(exempt) {
				return true
			}
		}
	}
	for _, u := range g.Unloaded {
		for _, k := range u.Children {
			if k.Domain(netip.Addr{}, netip.Addr{}).Overlaps(exempt) {
				return true
			}
		}
	}
	return false
}
