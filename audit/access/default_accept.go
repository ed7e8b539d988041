package access

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
)

// DefaultAccept reports where what no rule decides is accepted.
var DefaultAccept = &audit.Check{
	Name:     "access/default-accept",
	Title:    "Packets that match no rule are accepted",
	Severity: audit.Medium,
	Why:      "Every service and every network that no rule names is open.",
	Fix:      "Set the policy of the forward and input chains to drop, and accept what is needed.",
	Suggest:  audit.ByPeople("dropping what matches no rule stops whatever relies on it: accept that by rules first"),
	Doc: audit.Doc{
		What: "Gateways with tunnels whose packet filter was given and has, at the forward or the input hook, no base chain with " +
			"the policy drop and none that ends in a rule that drops all.",
		Harm:    "A service that is installed later is reachable from the moment it starts, from the Internet and from every partner.",
		Write:   "type filter hook forward priority filter; policy drop;",
		Sources: []string{"NIST SP 800-41 Rev. 1 section 4.2"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Connections) == 0 || len(g.Chains) == 0 {
			return
		}
		filter := p.Walk(g).Filter()
		for _, h := range []model.Hook{model.Forward, model.Input} {
			closed, at := false, audit.Evidence{}
			unsure := g.Doubts(model.AboutFilter)
			for _, c := range filter.Bases(h) {
				if c.Kind != model.FilterChain {
					continue
				}
				at = audit.Evidence{Pos: c.Policy.Where(c.At)}
				unsure.Add(c.Doubts...)
				closed = closed || c.Policy.Value == model.Drop
				everything := packet.Only(packet.IPv4)
				for _, r := range c.Rules {
					if r.Doubts.Unread() && r.Verb != model.Accept && r.When.Contains(everything) {
						unsure.Add(r.Doubts...)
					}
				}
				if n := len(c.Rules); n > 0 {
					r := c.Rules[n-1]
					closed = closed || (r.Verb == model.Drop || r.Verb == model.Reject) && r.Certain() && r.When.Contains(everything)
				}
			}
			if closed {
				continue
			}
			f := audit.Finding{Gateway: g.Name, At: at, Message: fmt.Sprintf("at the %s hook, packets that match no rule are accepted", h)}
			if at.Pos.IsZero() {
				f.At = audit.Evidence{Pos: g.Chains[0].At}
				f.Message = fmt.Sprintf("the packet filter has no chain at the %s hook: everything is accepted there", h)
			}
			f.Rests(unsure)
			p.Report(f)
		}
	},
}
