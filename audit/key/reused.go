package key

import (
	"fmt"
	"slices"
	"strings"

	"toril/audit"
	"toril/estate"
	"toril/model"
)

// Reused speaks where one key serves several peers.
var Reused = &audit.Check{
	Name:     "key/reused",
	Title:    "One pre-shared key for several peers",
	Severity: audit.Medium,
	Why:      "Every holder of the key can impersonate every other.",
	Fix:      "Give each pair of peers a key of its own.",
	Doc: audit.Doc{
		What: "The same key serves more than one peer: two secrets have the same value, or one secret serves several connections " +
			"with different peers. Keys are compared by a " +
			"keyed digest that exists only while Toril runs.",
		Harm: "One stolen device, one careless partner, and all tunnels of the key are open to impersonation; and changing the " +
			"key means changing it everywhere at once.",
		Write:   "One secret per peer, with its identity as id.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Estate: func(p *audit.Pass) {
		byPrint := map[[32]byte][]holder{}
		var order [][32]byte
		for _, h := range keysOf(p.Estate) {
			fp := h.key.Secret.Fingerprint()
			if byPrint[fp] == nil {
				order = append(order, fp)
			}
			byPrint[fp] = append(byPrint[fp], h)
		}
		for _, fp := range order {
			holders := byPrint[fp]
			pairs := map[string]bool{} // the pairs of peers that the key serves
			for _, h := range holders {
				for _, c := range serves(h.gateway, h.key) {
					pairs[between(p.Estate, h.gateway, c)] = true
				}
			}
			if len(pairs) < 2 {
				continue
			}
			names := make([]string, 0, len(pairs))
			for n := range pairs {
				names = append(names, n)
			}
			slices.Sort(names)
			f := audit.Finding{
				Gateway: holders[0].gateway.Name,
				About:   "key " + holders[0].key.Name,
				At:      audit.Evidence{Pos: holders[0].key.At},
			}
			for _, h := range holders[1:] {
				f.Also = append(f.Also, audit.Evidence{Pos: h.key.At, Note: "the same key"})
			}
			f.Message = fmt.Sprintf("the same pre-shared key serves %d pairs of peers: %s", len(names), strings.Join(names, ", "))
			p.Report(f)
		}
	},
}

// between names the two peers of a connection: several connections between the same two have one business.
func between(e *estate.Estate, g *model.Gateway, c *model.Connection) string {
	for _, t := range e.TunnelsOf(g) {
		for _, end := range t.Ends {
			if end.Connection == c {
				return t.Between()
			}
		}
	}
	return g.Name + " and " + c.Name
}
