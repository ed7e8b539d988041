package ike

import (
	"toril/audit"
	algo "toril/ike"
	"toril/model/settings"
)

// OpenPeer reports where anybody on any address may present a shared key.
var OpenPeer = &audit.Check{
	Name:     "ike/open-peer",
	Setting:  settings.PeerAddress.Row,
	Title:    "Any address may use the pre-shared key",
	Severity: audit.High,
	Why:      "Anyone who learns the key, from any of its holders, can connect from anywhere.",
	Fix:      "Name the peer's address; where it changes, use certificates, or one key and one identity per peer.",
	Doc: audit.Doc{
		What: "The peer authenticates with a pre-shared key and its address is open.",
		Harm: "A key that leaked, from a backup or a former partner, works from the whole Internet, and guesses can be tried from " +
			"anywhere.",
		Write:   "In swanctl.conf: remote_addrs = 203.0.113.9, and in the secret the identity whose key it is.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		if !c.RemoteAddrs.Value.Any() || c.Remote.Method.Value != algo.PSK {
			return
		}
		f := p.On(s, c.RemoteAddrs.Where(c.At), c.RemoteAddrs.IsDefault())
		f.Message = "a peer at any address may use the pre-shared key" + audit.ByDefault(c.RemoteAddrs)
		if c.Remote.ID.Value.Wild() {
			f.Message += ", under any identity"
			if c.Remote.ID.IsDefault() {
				f.Rests(s.Doubts())
			}
		} else {
			f.Lower(1)
		}
		p.Report(f)
	},
}
