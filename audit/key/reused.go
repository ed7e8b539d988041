package key

import (
	"fmt"
	"slices"
	"strings"

	"toril/audit"
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
	Keeps: audit.Keeping[holder](),
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, k := range given(g) {
			h := holder{
				Print:   k.Secret.Fingerprint(),
				Gateway: strings.Clone(g.Name),
				Key:     strings.Clone(k.Name),
				At:      p.Evidence(k.At, "the same key"),
			}
			for _, c := range g.ServedBy(k) {
				h.Pairs = append(h.Pairs, between(p, g, c))
			}
			p.Keep(h)
		}
	},
	Estate: func(p *audit.Pass) {
		byPrint := map[[32]byte][]holder{}
		var order [][32]byte
		for _, kept := range p.Kept() {
			h := kept.(holder)
			if byPrint[h.Print] == nil {
				order = append(order, h.Print)
			}
			byPrint[h.Print] = append(byPrint[h.Print], h)
		}
		for _, fp := range order {
			holders := byPrint[fp]
			var names []string // the pairs of peers that the key serves
			for _, h := range holders {
				names = append(names, h.Pairs...)
			}
			slices.Sort(names)
			if names = slices.Compact(names); len(names) < 2 {
				continue
			}
			f := audit.Finding{Gateway: holders[0].Gateway, About: "key " + holders[0].Key, At: holders[0].At}
			f.At.Note = ""
			for _, h := range holders[1:] {
				f.Also = append(f.Also, h.At)
			}
			f.Message = fmt.Sprintf("the same pre-shared key serves %d pairs of peers: %s", len(names), strings.Join(names, ", "))
			p.Report(f)
		}
	},
}

// holder is a gateway that holds a key, and what it is for there.
type holder struct {
	Print        [32]byte // of the key's value
	Gateway, Key string
	At           audit.Evidence
	Pairs        []string // of peers
}

// between names the two peers of a connection: several connections between the same two have one business.
func between(p *audit.Pass, g *model.Gateway, c *model.Connection) string {
	if m := p.Estate.MatchOf(g, c); m != nil {
		return m.Between()
	}
	return g.Name + " and " + c.Name
}
