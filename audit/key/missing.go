package key

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/source"
)

// Missing reports where a connection needs a key and none fits.
var Missing = &audit.Check{
	Name:     "key/missing",
	Title:    "No pre-shared key for a peer",
	Severity: audit.High,
	Why:      "Without a key the connection cannot authenticate: the log says only that authentication failed.",
	Fix:      "Add a secret whose owners are the identities of both ends, as the connection writes them.",
	Effect:   audit.Stops,
	PartOf: []audit.Part{
		{Of: "ends/key-differs", By: audit.SameTunnel},
	},
	Doc: audit.Doc{
		What: "A connection authenticates with a pre-shared key, secrets of the gateway were given, and none of them is for this " +
			"peer. Where no secret was given at all the check " +
			"reports nothing: they are often left out of what is handed over.",
		Harm:    "The tunnel does not come up. The usual cause: the key names the peer's address, and the connection its name.",
		Write:   "In swanctl.conf: secrets { ike-skerry { id = skerry.example  secret = ... } }.",
		Sources: []string{"RFC 7296 section 2.15", "swanctl.conf(5)"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		if c.Local.Method.Value != ike.PSK && c.Remote.Method.Value != ike.PSK || len(s.Gateway.Keys) == 0 {
			return
		}
		if c.Remote.ID.Value.Wild() || s.Gateway.Served(c) {
			return
		}
		f := p.On(s, at(c), true)
		f.Message = fmt.Sprintf("none of the gateway's pre-shared keys is for the peer %s", c.Remote.ID.Value)
		for _, k := range s.Gateway.Keys {
			f.Also = append(f.Also, audit.Evidence{Pos: k.At, Note: "a key for others"})
		}
		f.Also = f.Also[:min(len(f.Also), 4)]
		p.Report(f)
	},
}

func at(c *model.Connection) source.Pos {
	return c.Remote.ID.Where(c.Remote.Method.Where(c.At))
}
