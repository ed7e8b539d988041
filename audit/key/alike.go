package key

import (
	"cmp"
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
)

// Alike reports where keys of a gateway differ in a few characters at their end.
var Alike = &audit.Check{
	Name:     "key/alike",
	Title:    "Pre-shared keys differ in a few characters",
	Severity: audit.Medium,
	Why:      "Whoever holds one of the keys guesses the others: every holder can impersonate every other.",
	Fix:      "Give each pair of peers a random key of its own: openssl rand -base64 33.",
	Doc: audit.Doc{
		What: "The pre-shared keys of a gateway are compared with each other. The check reports those that begin alike, for at least " +
			"eight characters and seven tenths of their length, and are not the same.",
		Harm:    "One stolen device tells how all the keys are made: a common word and the name or the number of the site.",
		Write:   "One random key per peer; none made from another.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		keys := given(g)
		slices.SortStableFunc(keys, func(a, b *model.Key) int { return cmp.Compare(a.Secret.Reveal(), b.Secret.Reveal()) })
		for from := 0; from < len(keys); {
			to := from + 1
			for to < len(keys) && alike(keys[to-1].Secret.Reveal(), keys[to].Secret.Reveal()) {
				to++
			}
			if group := distinct(keys[from:to]); len(group) > 1 {
				slices.SortStableFunc(group, func(a, b *model.Key) int { return a.At.Compare(b.At) })
				f := audit.Finding{Gateway: g.Name, About: "key " + group[0].Name, At: audit.Evidence{Pos: group[0].At}}
				f.Message = fmt.Sprintf("%d pre-shared keys begin alike and differ in a few characters at their end", len(group))
				for _, k := range group[1:min(len(group), 5)] {
					f.Also = append(f.Also, audit.Evidence{Pos: k.At, Note: "a key like it"})
				}
				p.Report(f)
			}
			from = to
		}
	},
}

// alike reports whether two keys, the one before the other in their order, begin alike; also where they are the same.
func alike(a, b string) bool {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n >= 8 && 10*n >= 7*max(len(a), len(b))
}

// distinct leaves one of each key, in the order of their values.
func distinct(sorted []*model.Key) []*model.Key {
	return slices.CompactFunc(slices.Clone(sorted), func(a, b *model.Key) bool { return a.Secret.Reveal() == b.Secret.Reveal() })
}
