package access

import (
	"fmt"

	"toril/audit"
	"toril/gateway"
	"toril/packet"
	"toril/walk"
)

// Shadowed speaks where a rule changes nothing because earlier rules take all of its packets.
var Shadowed = &audit.Check{
	Name:     "access/shadowed",
	Title:    "A rule that earlier rules hide",
	Severity: audit.Medium,
	Why:      "It is never reached: what it says does not happen.",
	Mend:     "Move it before the rules that hide it, or take it out.",
	Doc: audit.Doc{
		What: "Every rule of every chain is compared, exactly, with the union of the rules before it that take their packets for good. Rules whose conditions are outside of the model hide nothing. The hiding rules are named. " +
			"Where all of them do the same as the hidden one, it is only clutter, and the severity is low.",
		Harm:    "A drop that was added at the end, behind the accept that it was meant to restrict, restricts nothing.",
		Write:   "ip saddr 10.2.0.66 drop before ip saddr 10.2.0.0/16 accept.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		for _, c := range g.Chains {
			for _, s := range walk.Shadows(c) {
				if s.Kind != walk.Hidden {
					continue
				}
				f := audit.Finding{Severity: audit.Medium, Gateway: g.Name, At: audit.Evidence{Pos: s.Rule.At}, Message: "no packet reaches this rule: earlier ones take them all"}
				if s.Same {
					f.Severity, f.Message = audit.Low, "no packet reaches this rule: earlier ones take them all, and do the same with them"
				}
				if s.Err != nil {
					f.Message, f.Unsure = "whether earlier rules hide this one", s.Err.Error()
				} else if w, ok := s.Rule.When.Witness(); ok {
					f.Example = w.String()
				}
				for i, by := range s.By {
					if i == 4 {
						break
					}
					f.Also = append(f.Also, audit.Evidence{Pos: by.At, Note: "takes its packets"})
				}
				p.Report(f)
			}
		}
	},
}

// NeverMatches speaks where the conditions of a rule contradict each other.
var NeverMatches = &audit.Check{
	Name:     "access/never-matches",
	Title:    "A rule that no packet can match",
	Severity: audit.Medium,
	Why:      "Its conditions contradict each other, so what it says never happens.",
	Mend:     "Correct the conditions.",
	Doc: audit.Doc{
		What:    "Rules whose conditions, taken together, leave no packet: two sources, a port of a protocol without ports, an IPv6 address in an IPv4 chain.",
		Harm:    "A protective rule that protects nothing, or an allow rule that somebody will \"mend\" by allowing more.",
		Write:   "ip saddr { 10.2.0.1, 10.2.0.2 } in place of ip saddr 10.2.0.1 ip saddr 10.2.0.2.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		for _, c := range g.Chains {
			for _, s := range walk.Shadows(c) {
				if s.Kind == walk.Impossible {
					p.Report(audit.Finding{Severity: audit.Medium, Gateway: g.Name, At: audit.Evidence{Pos: s.Rule.At}, Message: "the conditions of this rule contradict each other: no packet matches"})
				}
			}
		}
	},
}

// Redundant speaks where a rule could go without any packet faring otherwise.
var Redundant = &audit.Check{
	Name:     "access/redundant",
	Title:    "A rule that could go",
	Severity: audit.Info,
	Why:      "What follows does the same with its packets; each such rule makes the others harder to read.",
	Mend:     "Take it out, unless its counter is what it is for.",
	Doc: audit.Doc{
		What:    "Accepting and dropping rules without log whose packets the next rule that meets them takes whole and treats alike, or whose packets meet no further rule of a base chain and whose policy does the same.",
		Harm:    "None by itself; but of two rules that do the same, sooner or later only one is changed.",
		Write:   "The wider of the two rules alone.",
		Sources: []string{"nft(8)", "iptables(8)"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		for _, c := range g.Chains {
			if c.Kind == gateway.NATChain {
				continue
			}
			for _, s := range walk.Shadows(c) {
				if s.Kind != walk.Redundant {
					continue
				}
				f := audit.Finding{Severity: audit.Info, Gateway: g.Name, At: audit.Evidence{Pos: s.Rule.At}, Message: "what follows does the same with the packets of this rule"}
				if len(s.By) > 0 {
					f.Also = []audit.Evidence{{Pos: s.By[0].At, Note: "does the same"}}
				} else {
					f.Also = []audit.Evidence{{Pos: c.Policy.Where(c.At), Note: "the policy does the same"}}
				}
				p.Report(f)
			}
		}
	},
}

// DefaultAccept speaks where what no rule decides is accepted.
var DefaultAccept = &audit.Check{
	Name:     "access/default-accept",
	Title:    "What no rule decides is accepted",
	Severity: audit.Medium,
	Why:      "Everything that nobody thought of is open.",
	Mend:     "Set the policy of the forward and input chains to drop, and accept what is needed.",
	Doc: audit.Doc{
		What:    "Gateways with tunnels whose packet filter was given and has, at the forward or the input hook, no base chain with the policy drop and none that ends in a rule that drops all.",
		Harm:    "A service that is installed later is reachable from the moment it starts, from the Internet and from every partner.",
		Write:   "type filter hook forward priority filter; policy drop;",
		Sources: []string{"NIST SP 800-41 Rev. 1 section 4.2"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		if len(g.Connections) == 0 || len(g.Chains) == 0 {
			return
		}
		filter := p.Walk(g).Filter()
		for _, h := range []gateway.Hook{gateway.Forward, gateway.Input} {
			closed, at := false, audit.Evidence{}
			unsure := false
			for _, c := range filter.Bases(h) {
				if c.Kind != gateway.FilterChain {
					continue
				}
				at = audit.Evidence{Pos: c.Policy.Where(c.At)}
				unsure = unsure || c.Unsure
				closed = closed || c.Policy.Value == gateway.Drop
				if n := len(c.Rules); n > 0 {
					r := c.Rules[n-1]
					everything := packet.Only(packet.IPv4)
					closed = closed || (r.Verb == gateway.Drop || r.Verb == gateway.Reject) && r.Certain() && r.When.Contains(everything)
				}
			}
			if closed {
				continue
			}
			f := audit.Finding{Severity: audit.Medium, Gateway: g.Name, At: at, Message: fmt.Sprintf("at the %s hook, what no rule decides is accepted", h)}
			if at.Pos.IsZero() {
				f.At = audit.Evidence{Pos: g.Chains[0].At}
				f.Message = fmt.Sprintf("the packet filter has no chain at the %s hook: everything is accepted there", h)
			}
			if unsure {
				f.Unsure = "a statement about the chain was not understood"
			}
			p.Report(f)
		}
	},
}
