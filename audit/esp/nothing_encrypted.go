package esp

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/model/settings"
)

// NothingEncrypted reports where no child of a connection to a peer protects anything.
var NothingEncrypted = &audit.Check{
	Name:     "esp/nothing-encrypted",
	Setting:  settings.Mode.Row,
	Title:    "The connection passes its packets unencrypted, or drops them",
	Severity: audit.High,
	Why:      "It has a peer, a key and networks like a tunnel, but no SA is ever set up for them.",
	Fix:      "Use tunnel mode, on both ends; a child in pass mode belongs beside one that encrypts.",
	Doc: audit.Doc{
		What: "Connections to a peer with a fixed address of which every child is of mode pass or drop (type=passthrough, " +
			"type=drop), where no other connection to that peer encrypts. " +
			"A child for packets that stay behind the gateway is not meant.",
		Harm:    "The type was changed to pass traffic for a test, and stayed. Everything is configured, monitored and unencrypted.",
		Write:   "In swanctl.conf: mode = tunnel. In ipsec.conf: type=tunnel.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		if len(c.Children) == 0 ||
			slices.ContainsFunc(
				c.Children,
				func(k *model.Child) bool { return !k.Shunts() || k.Local.Value.String() == k.Remote.Value.String() },
			) {
			return
		}
		peers := c.RemoteAddrs.Value.Fixed()
		if len(peers) == 0 || peers[0].IsLoopback() || slices.ContainsFunc(s.Gateway.Connections, func(o *model.Connection) bool {
			return slices.Contains(o.RemoteAddrs.Value.Fixed(), peers[0]) &&
				slices.ContainsFunc(o.Children, func(k *model.Child) bool { return !k.Shunts() })
		}) {
			return
		}
		k := c.Children[0]
		f := p.On(s, k.Mode.Where(k.At), false)
		f.Message = fmt.Sprintf("no child of the connection to %s encrypts: %s is of mode %s", peers[0], k.Name, k.Mode.Value)
		p.Report(f)
	},
}
