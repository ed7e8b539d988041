package access

import (
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
)

// Blanket reports where one rule accepts whatever was decrypted.
var Blanket = &audit.Check{
	Name:     "access/blanket",
	Title:    "One rule accepts everything from every tunnel",
	Severity: audit.Medium,
	Why:      "The rule bypasses the rules written for the tunnels: every tunnel added later is open from its first packet.",
	Fix:      "Send decrypted packets through rules of their own: jump to a chain that names networks and protocols.",
	PartOf: []audit.Part{
		{Of: "access/any-from-tunnel", By: audit.SameLine},
	},
	Doc: audit.Doc{
		What: "Accepting rules at the forward or input hook whose only condition is that the packet was decrypted, or that it " +
			"came in on a tunnel interface.",
		Harm:    "A partner's whole network reaches the gateway and all that is behind it, also what the partner was never meant to see.",
		Write:   "meta ipsec exists jump from-tunnels in place of meta ipsec exists accept.",
		Sources: []string{"RFC 4301 section 5.2", "NIST SP 800-77 Rev. 1"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		begun := packet.Only(packet.IPv4).With(packet.State, packet.OneOf(packet.New))
		decrypted := begun.Minus(packet.Where(packet.PeerIn, packet.OneOf(0)))
		var names []string // of the interfaces that packets of tunnels come by
		for _, i := range g.Interfaces {
			if i.Kind == "xfrm" || i.Kind == "vti" {
				names = append(names, i.Name)
			}
		}
		slices.Sort(names)
		for _, c := range g.Chains {
			if c.Hook != model.Forward && c.Hook != model.Input {
				continue
			}
			for _, r := range c.Rules {
				if r.Verb != model.Accept || !r.Certain() {
					continue
				}
				whole, by := r.When.Contains(decrypted), ""
				for _, name := range names {
					if r.When.Contains(begun.With(packet.In, packet.Name(name))) {
						whole, by = true, name
					}
				}
				if !whole || r.When.Contains(begun) {
					continue
				}
				f := audit.Finding{
					Gateway: g.Name,
					At:      audit.Evidence{Pos: r.At},
					Message: "the rule accepts all decrypted packets, from every tunnel",
				}
				if by != "" {
					f.Message = "the rule accepts everything that comes in on " + by
				}
				p.Report(f)
			}
		}
	},
}
