package nat

import (
	"net/netip"
	"slices"
	"sync"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// WideExemption reports where an exemption lets more pass than tunnels protect.
var WideExemption = &audit.Check{
	Name:     "nat/wide-exemption",
	Title:    "The NAT exemption is wider than the tunnels",
	Severity: audit.Medium,
	Why:      "Exempted traffic that no tunnel protects leaves with its private source, and no reply finds its way back.",
	Fix:      "Exempt by IPsec policy, or narrow it to the encryption domains.",
	Doc: audit.Doc{
		What: "Rules of a source NAT chain that exempt packets which a later rule of the chain would translate and which belong " +
			"to no encryption domain. An example packet is shown.",
		Harm:    "Private addresses leak to the provider; hosts that the rule was not meant for lose the Internet.",
		Write:   "ip saddr 10.1.0.0/16 ip daddr 10.2.0.0/16 accept in place of ip daddr 10.0.0.0/8 accept.",
		Sources: []string{"RFC 1918", "nft(8)"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		path := p.Walk(g)
		if len(path.Policies) == 0 {
			return
		}
		for _, c := range postrouting(g) {
			for i, r := range c.Rules {
				if !exempts(r) || !r.Certain() || !touches(path, r) || packet.Where(packet.Proto, packet.OneOf(50, 51)).Contains(r.When) {
					continue
				}
				clear := r.When.And(packet.Where(packet.PeerOut, packet.OneOf(0)))
				for _, pol := range path.Meeting(clear) {
					clear = clear.Minus(pol.Domain)
				}
				clear = clear.Minus(packet.Where(packet.In, packet.Name(""))) // the gateway's own
				for _, before := range path.Filter().Asked(c, clear) {
					if before.Index < i && before.Certain() && before.Verb.Final() {
						clear = clear.Minus(before.When)
					}
				}
				private := clear.And(privateSources())
				for _, later := range path.Filter().Asked(c, private) {
					if later.Index <= i || !later.Verb.Translates() || !later.Certain() {
						continue
					}
					leak := private.And(later.When)
					if leak.Empty() || internal(path, leak) {
						continue
					}
					f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: r.At}}
					w, _ := leak.OnTheWire().Witness()
					f.Example = w.String()
					f.Message = "the exemption covers packets that no tunnel protects: they leave with their private source"
					f.Also = []audit.Evidence{{Pos: later.At, Note: "the rule that would have translated them"}}
					f.Fix = audit.Sentence(
						"exempt by IPsec policy: "+p.In(audit.ExemptByPolicy, g.Name, r.At),
						"narrow it to the encryption domains",
					)
					f.Rests(path.IKEDoubts(), g.UnreadNetwork()) // what would protect them, or is inside too
					p.Report(f)
					break
				}
			}
		}
	},
}

// touches reports whether a rule has to do with any policy's domain, and not with everything.
func touches(path *walk.Path, r *model.Rule) bool {
	return !everything(r) && meets(path, r.When.OnTheWire())
}

// meets reports whether some packets are in the domain of any policy.
func meets(path *walk.Path, s packet.Set) bool {
	return slices.ContainsFunc(path.Meeting(s), func(pol *walk.Policy) bool { return pol.Domain.Overlaps(s) })
}

// privateSources are packets from the networks of RFC 1918.
var privateSources = sync.OnceValue(func() packet.Set {
	return packet.Prefixes(
		packet.Src,
		netip.MustParsePrefix("10.0.0.0/8"),
		netip.MustParsePrefix("172.16.0.0/12"),
		netip.MustParsePrefix("192.168.0.0/16"),
	)
})
