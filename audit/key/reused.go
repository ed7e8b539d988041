package key

import (
	"fmt"
	"slices"
	"strings"

	"toril/audit"
	"toril/ike"
	"toril/model"
)

// Reused reports where one key serves several peers.
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
				if takesAnother(p, g, c, k) {
					continue
				}
				pair := between(p, g, c)
				if h.Pairs = append(h.Pairs, pair); doubtful(p, g, c, &h) {
					h.Doubtful = append(h.Doubtful, pair)
				}
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
			var names, doubtful []string // the pairs of peers that the key serves
			for _, h := range holders {
				names, doubtful = append(names, h.Pairs...), append(doubtful, h.Doubtful...)
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
			if sure := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return slices.Contains(doubtful, n) }); len(sure) < 2 {
				for _, h := range holders {
					f.Reasons = append(f.Reasons, h.Reasons...)
				}
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
	Doubtful     []string // those of which what was not understood may say that they are another, or do not use the key
	Reasons      []audit.Reason
}

// doubtful reports whether what was not understood may say that a connection does not use the key, or has another peer than it seems; the
// holder keeps why.
func doubtful(p *audit.Pass, g *model.Gateway, c *model.Connection, h *holder) bool {
	var f audit.Finding
	f.Rests(g.Doubts(model.AboutKeys|model.AboutIKE), c.Doubts)
	if m := p.Estate.MatchOf(g, c); m == nil || len(m.Sides) == 1 {
		f.Reasons = append(f.Reasons, p.Elsewhere(g)...)
	}
	h.Reasons = append(h.Reasons, f.Reasons...)
	return len(f.Reasons) > 0
}

// between names the two peers of a connection: several connections between the same two have one business.
func between(p *audit.Pass, g *model.Gateway, c *model.Connection) string {
	if m := p.Estate.MatchOf(g, c); m != nil {
		return m.Between()
	}
	return g.Name + " and " + c.Name
}

// takesAnother reports whether a connection would take a key, and has a better one for the peer that its far end is.
func takesAnother(p *audit.Pass, g *model.Gateway, c *model.Connection, k *model.Key) bool {
	m := p.Estate.MatchOf(g, c)
	if m == nil {
		return false
	}
	for _, side := range m.Sides {
		if id := side.Connection.Shows; side.Gateway.Name != g.Name && id.Definite() {
			best := g.KeyFor(c, []ike.Identity{c.Local.ID.Value}, []ike.Identity{id})
			return best != nil && best.Secret.Fingerprint() != k.Secret.Fingerprint()
		}
	}
	return false
}
