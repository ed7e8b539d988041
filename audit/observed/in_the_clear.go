package observed

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// InTheClear reports where the kernel tracks a connection of protected networks that address translation took out of its tunnel.
var InTheClear = &audit.Check{
	Name:     "observed/in-the-clear",
	Title:    "Tunnel traffic was translated, and left in the clear",
	Severity: audit.High,
	Symptom:  true,
	Effect:   audit.Leaks,
	Why:      "The kernel looks the IPsec policy up again after source NAT: what was translated is no longer the tunnel's.",
	Fix:      "Exempt the encryption domain from NAT; then delete the tracked connections, which keep their translation: conntrack -D.",
	PartOf: append(parts(audit.SameChild, "nat/rewritten", "nat/late-exemption", "nat/narrow-exemption", "observed/in-the-clear"),
		parts(audit.SameTunnel, "route/clear-when-down")...),
	Doc: audit.Doc{
		What: "Connections in the output of conntrack -L whose source and destination are a child's, and whose replies are expected at " +
			"another address than the source: its source was translated; of one gateway, the first 20,000 such connections. A " +
			"translation into the child's own networks is none of it.",
		Harm:    "What the tunnel was built for is readable on the way, and its replies come from the Internet.",
		Write:   "rt ipsec exists accept, before the rule that translates.",
		Sources: []string{"RFC 4301 section 5", "conntrack(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || len(s.Gateway.Observed.Flows) == 0 {
			return
		}
		local, remote := s.Child.Local.Value.At(s.Tunnel.Own(s.End)), s.Child.Remote.Value.At(s.Tunnel.Peer(s.End))
		var first *model.Flow
		n := 0
		for _, f := range s.Gateway.Translated() {
			if local.Hold(f.Src) && remote.Hold(f.Dst) && !local.Hold(f.RDst) {
				if n++; first == nil {
					first = f
				}
			}
		}
		if first == nil {
			return
		}
		f := p.On(s, first.At, false)
		f.Message = fmt.Sprintf("a connection from %s to %s left as %s, not through %s", first.Src, first.Dst, first.RDst, s.Child.Name)
		if n > 1 {
			f.Message += fmt.Sprintf("; %d such connections are tracked", n)
		}
		p.Report(f)
	},
}
