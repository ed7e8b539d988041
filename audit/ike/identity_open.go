package ike

import (
	"fmt"

	"toril/audit"
	algo "toril/ike"
	"toril/model/settings"
)

// IdentityOpen reports where the peer may be anybody, or the own identity is left to chance.
var IdentityOpen = &audit.Check{
	Name:     "ike/identity-open",
	Setting:  settings.PeerIdentity.Row,
	Title:    "The peer's identity is not pinned",
	Severity: audit.Medium,
	Why:      "Without an expected identity, anyone with a valid key or certificate is accepted as the peer.",
	Fix:      "Configure the identity that the peer sends, and your own, on both ends.",
	Suggest:  audit.Advice{Sets: audit.PeerAsShown, Own: true, Else: "the far end was not given, so its identity is not known"},
	Doc: audit.Doc{
		What: "The peer's expected identity is open or has a wildcard, or the own identity is not configured and so is the address " +
			"that packets are sent from. " +
			"With certificates the first matters most: any certificate of the same authority is accepted.",
		Harm: "A second device with a certificate of the same authority becomes the peer. An own identity that follows the address " +
			"changes with it: behind NAT, or after " +
			"a move, the tunnel no longer comes up, and the log says only that authentication failed.",
		Write:   "In swanctl.conf: local { id = lampwright.example } and remote { id = skerry.example }.",
		Sources: []string{"RFC 7296 section 3.5", "RFC 4301 section 4.4.3.1"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		id := c.Remote.ID
		switch {
		case c.Remote.Method.Value == algo.EAP: // the name of the user tells who it is
		case id.Value.Wild():
			f := p.On(s, id.Where(c.At), id.IsDefault())
			what := "any peer identity is accepted"
			if id.Value.Kind != algo.AnyID {
				what = fmt.Sprintf("any identity that matches %s is accepted", id.Value)
			}
			if c.Remote.Method.Value != algo.PSK {
				what += ", with any certificate that is trusted"
			} else {
				f.Lower(1)
			}
			f.Message = what + audit.ByDefault(id)
			p.Report(f)
		case c.Local.ID.Value.Kind == algo.NoID && c.Local.Method.Value == algo.PSK:
			f := p.On(s, c.At, true)
			f.Lower(2)
			f.Message = "the own identity is not configured, so it is the address that packets are sent from"
			p.Report(f)
		case c.Local.ID.Value.Kind == algo.IDHost:
			f := p.On(s, c.At, true)
			f.Lower(2)
			f.Message = "the own identity is not configured, so it is the name of the host"
			p.Report(f)
		}
	},
}
