package key

import (
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model"
)

// SharedByAny reports where a key has no owner, or any, and a connection is open to every address.
var SharedByAny = &audit.Check{
	Name:     "key/for-anybody",
	Title:    "A pre-shared key for any peer",
	Severity: audit.Medium,
	Why:      "A key without owners is tried for every peer, also for those that were never meant.",
	Fix:      "Name the identities of both ends beside the key.",
	Doc: audit.Doc{
		What:    "A secret names no owner (or any), and the gateway has several peers or one at any address.",
		Harm:    "A new connection, or a peer at an unknown address, authenticates with a key that was meant for another.",
		Write:   "In swanctl.conf, inside the secret: id-own = lampwright.example and id-peer = skerry.example.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, k := range g.Keys {
			open := len(k.Owners) == 0 || slices.ContainsFunc(k.Owners, func(o ike.Identity) bool { return o.Kind == ike.AnyID })
			if !open || k.PPK || k.For != nil {
				continue
			}
			conns := g.ServedBy(k)
			anybody := slices.ContainsFunc(conns, func(c *model.Connection) bool { return c.RemoteAddrs.Value.Any() })
			if len(conns) == 0 || len(conns) == 1 && !anybody {
				continue
			}
			f := audit.Finding{
				Gateway: g.Name,
				About:   "key " + k.Name,
				At:      audit.Evidence{Pos: k.At},
				Tunnel:  tunnelOf(p, g, conns[0]),
			}
			f.Message = "the pre-shared key names no owner and serves every peer"
			if anybody {
				f.Message += ", also one at any address"
			}
			f.Rests(g.Doubts(model.AboutKeys | model.AboutIKE))
			for _, c := range conns {
				f.Rests(c.Doubts)
			}
			p.Report(f)
		}
	},
}
