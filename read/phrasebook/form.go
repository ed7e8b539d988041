package phrasebook

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"toril/model/literal"
	"toril/source"
	"toril/syntax/statements"
)

// Miss is a statement that no phrase fits.
type Miss struct {
	Words []statements.Word
	Line  int
	Scope string // what it may change: a connection's name; "" for the whole gateway
	Why   string
	Like  bool // there is a phrase that it is like, or one that it negates
}

// Form is statements that no phrase fits and that look alike.
type Form struct {
	Text   string // the words that they share, and what kind of value stands in other places
	Count  int
	Line   int    // of the first
	Why    string // the first fits no phrase
	Like   bool   // there is a phrase that it is like
	Within int    // how many of them stand in a connection
	weight int
}

// weighty are words for what tunnels depend on: a statement with one of them is looked at first.
var weighty = []string{
	"ike", "isakmp", "ipsec", "esp", "tunnel", "peer", "remote", "local", "gateway", "proposal", "encrypt", "cipher", "hash", "integrity",
	"auth",
	"group", "pfs", "secrecy", "lifetime", "life", "rekey", "renew", "key", "secret", "identity", "selector", "network", "nat", "translat",
	"rule", "access", "permit", "deny", "accept", "drop", "allow", "route", "address", "interface", "zone", "version", "mode",
}

// Forms groups statements by what they look like, the most consequential first: those that stand in connections, then those with words
// that tunnels depend on, then the most frequent. No word is shown that may be a secret: only first words, and those that stand in several
// statements.
func Forms(misses []Miss) []Form {
	often := map[string]int{}
	for _, m := range misses {
		seen := map[string]bool{}
		for _, w := range m.Words {
			if !seen[w.Text] {
				seen[w.Text] = true
				often[w.Text]++
			}
		}
	}
	by := map[string]*Form{}
	var order []*Form
	for _, m := range misses {
		text := FormOf(m.Words, func(i int, w string) bool { return i == 0 || often[w] > 1 })
		f := by[text]
		if f == nil {
			f = &Form{Text: text, Line: m.Line, Why: m.Why, Like: m.Like}
			lower := strings.ToLower(text)
			for _, w := range weighty {
				if strings.Contains(lower, w) {
					f.weight = 1
				}
			}
			by[text] = f
			order = append(order, f)
		}
		f.Count++
		if m.Scope != "" {
			f.Within++
		}
	}
	slices.SortStableFunc(order, func(a, b *Form) int {
		return cmp.Or(cmp.Compare(min(b.Within, 1), min(a.Within, 1)), cmp.Compare(b.weight, a.weight), cmp.Compare(b.Count, a.Count))
	})
	out := make([]Form, len(order))
	for i, f := range order {
		out[i] = *f
	}
	return out
}

// FormOf is the form of a statement: its words, and for values what kind they are. keeps tells of a word by its place whether it may stand
// as it is.
func FormOf(words []statements.Word, keeps func(i int, word string) bool) string {
	var out []string
	for i, w := range words {
		kind := KindOf(w)
		switch {
		case i > 0 && SecretWord(words[i-1].Text) && kind != "address":
			kind = "secret"
		case kind == "word" && keeps(i, w.Text):
			out = append(out, source.Clean(w.Text))
			continue
		}
		if n := len(out); n > 0 && out[n-1] == "<"+kind+">" {
			out[n-1] += "..."
			continue
		} else if n > 0 && out[n-1] == "<"+kind+">..." {
			continue
		}
		out = append(out, "<"+kind+">")
	}
	return strings.Join(out, " ")
}

// KindOf is the kind of value that a word looks like, by the names of types: "word" where it is none.
func KindOf(w statements.Word) string {
	t := w.Text
	if a, err := netip.ParseAddr(t); err == nil {
		if bits, ok := literal.MaskBits(a); ok && a.Is4() && (bits == 32 || bits > 0 && a.As4()[0] == 255) {
			return "mask"
		}
		return "address"
	}
	if _, err := netip.ParsePrefix(t); err == nil {
		return "prefix"
	}
	if lo, hi, ok := strings.Cut(t, "-"); ok {
		_, err := netip.ParseAddr(lo)
		_, err2 := netip.ParseAddr(hi)
		if err == nil && err2 == nil {
			return "network"
		}
	}
	if t != "" && strings.Trim(t, "0123456789") == "" {
		return "number"
	}
	if w.Quoted {
		return "text"
	}
	return "word"
}

// SecretWord reports whether a secret may stand behind a word.
func SecretWord(word string) bool {
	word = strings.ToLower(word)
	return slices.ContainsFunc(secretWords, func(s string) bool { return strings.Contains(word, s) }) || word == "key" ||
		strings.HasSuffix(word, "-key")
}

var secretWords = []string{"secret", "password", "passphrase", "passwd", "psk", "pre-shared", "preshared", "shared-key", "key-string",
	"passcode", "community", "token"}
