package key

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// Unused reports where a key is for peers that no connection has.
var Unused = &audit.Check{
	Name:     "key/unused",
	Title:    "A pre-shared key that no connection uses",
	Severity: audit.Low,
	Why:      "It is left over from a peer that is gone, or its owners are mistyped and the connection it was meant for has no key.",
	Fix:      "Remove the key, or correct its owners.",
	Doc: audit.Doc{
		What: "Pre-shared keys whose owners are neither the identity nor the address of any connection's peer. Post-quantum keys " +
			"are left out.",
		Harm:    "A former partner's key stays valid in a file that is copied from gateway to gateway.",
		Write:   "id = partner.example.net beside the secret, as in the connection's remote section.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Connections) == 0 {
			return
		}
		const most = 20 // said one by one
		said, more := 0, 0
		defer func() {
			if more > 0 {
				p.Report(
					audit.Finding{
						Gateway: g.Name,
						At:      audit.Evidence{Pos: g.Keys[len(g.Keys)-1].At},
						Message: fmt.Sprintf("%d more pre-shared keys are for peers that no connection has", more),
					},
				)
			}
		}()
		for _, k := range g.Keys {
			if k.PPK || len(g.ServedBy(k)) > 0 || len(k.Owners) == 0 {
				continue
			}
			if said++; said > most {
				more++
				continue
			}
			f := audit.Finding{
				Gateway: g.Name,
				About:   "key " + k.Name,
				At:      audit.Evidence{Pos: k.At},
				Message: "no connection has a peer that this pre-shared key is for",
			}
			for _, u := range g.Unloaded {
				if k.Serves(u) {
					f.Message = "only connections that are never loaded have a peer that this pre-shared key is for"
				}
			}
			for _, c := range g.Connections {
				if !c.Doubts.Certain() {
					f.Rests(c.Doubts)
				}
			}
			p.Report(f)
		}
	},
}
