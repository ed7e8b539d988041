package key

import (
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"math"
	"strings"
	"sync"

	"toril/audit"
	"toril/baseline"
	"toril/internal/spread"
	"toril/internal/strength"
	"toril/model"
	"toril/model/settings"
)

// Weak reports where a key can be guessed.
var Weak = &audit.Check{
	Name:     "key/weak",
	Setting:  settings.OwnAuthentication.Row,
	Title:    "The pre-shared key can be guessed",
	Severity: audit.High,
	Why:      "Anyone who guesses the key can impersonate either end.",
	Fix:      "Use at least 32 random characters, one key per peer: openssl rand -base64 33.",
	Doc: audit.Doc{
		What: "The key's length is counted, and what a guesser needs is estimated from its least surprising reading: as common " +
			"words, names, dates, keyboard rows, " +
			"repetitions and the names in the configuration. The key itself is never shown.",
		Harm: "An attacker who once took part in the exchange as a false responder, or saw one in aggressive mode, tries keys " +
			"offline. Words and names fall within seconds.",
		Write:   "A random key: openssl rand -base64 33. In swanctl.conf: secret = \"...\" with id = of both ends. Better: certificates.",
		Sources: []string{"NIST SP 800-77 Rev. 1", "RFC 7296 section 2.15"},
		Demands: []string{baseline.KeyBits.Name, baseline.KeyLength.Name},
	},
	Keeps: audit.Keeping[judged](),
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		keys, before := given(g), p.Estate.FactsOf(g).Before
		if len(keys) == 0 {
			return
		}
		names := strength.NewNames(words(p, g))
		guesses := make([]float64, len(keys))
		err := spread.Each(p.Context, (len(keys)+batch-1)/batch, func(ctx context.Context, n int) error {
			for i := n * batch; i < min((n+1)*batch, len(keys)) && ctx.Err() == nil; i++ {
				guesses[i] = math.Inf(1)
				if before+i < audit.MostKeys {
					guesses[i] = guess(p, keys[i], names)
				}
			}
			return ctx.Err()
		})
		if err != nil {
			return
		}
		for i, k := range keys {
			if before+i == audit.MostKeys {
				p.Keep(judged{Beyond: true, Finding: audit.Finding{Gateway: strings.Clone(g.Name), At: p.Evidence(k.At, "")}})
			}
			if f, ok := judge(p, g, k, names, guesses[i]); ok {
				f.At = p.Evidence(k.At, "")
				f.Detach()
				p.Keep(judged{Print: k.Secret.Fingerprint(), Finding: f})
			}
		}
	},
	Estate: func(p *audit.Pass) {
		seen := map[[32]byte]int{}
		var found []audit.Finding
		for _, kept := range p.Kept() {
			k := kept.(judged)
			if k.Beyond {
				last := p.Estate.Gateways[len(p.Estate.Gateways)-1]
				f := audit.Finding{Gateway: k.Finding.Gateway, At: k.Finding.At}
				f.Message = fmt.Sprintf(
					"there are %d pre-shared keys; the strength was estimated for the first %d; of the others only length and names were "+
						"judged",
					last.Before+last.Keys,
					audit.MostKeys,
				)
				f.Lower(3) // worth knowing
				p.Report(f)
				continue
			}
			f := k.Finding
			i, again := seen[k.Print]
			if !again {
				seen[k.Print] = len(found)
				found = append(found, f)
				continue
			}
			here := f.At // the far end's copy of the same key
			here.Note = "the same key"
			if also := found[i].Also; p.Severity(f) > p.Severity(found[i]) {
				f.Gateway, f.Connection, f.Tunnel, f.At, f.Message, f.Also = found[i].Gateway, found[i].Connection, found[i].Tunnel,
					found[i].At, found[i].Message, also
				found[i] = f
			}
			found[i].Also = append(found[i].Also, here)
		}
		for _, f := range found {
			p.Report(f)
		}
	},
}

// judged is a key that is weak; or, Beyond, the first whose strength was not estimated.
type judged struct {
	Print   [32]byte // of the key's value
	Finding audit.Finding
	Beyond  bool
}

// batch is how many keys are estimated in a row.
const batch = 64

// guess estimates what a key is worth to a guesser, in bits, who knows some names. Where these do not matter to it, it is worth the same at
// every gateway that has it.
func guess(p *audit.Pass, k *model.Key, names *strength.Names) float64 {
	if k.Hash {
		return 0
	}
	text := k.Secret.Reveal()
	if k.Coded && !printable(text) {
		return p.Estimate(k.Secret.Fingerprint(), func() float64 { return codedBits(text) })
	}
	if text = text[:min(len(text), judgedLength)]; names.Matter(text) {
		return names.Bits(text)
	}
	return p.Estimate(k.Secret.Fingerprint(), func() float64 { return unnamed().Bits(text) })
}

// codedBits is what a key that was written as bits is worth: as many bits as it has, unless its digits follow a pattern. Some of random
// digits always look like a date or a word: a third of them may.
func codedBits(text string) float64 {
	all := 8 * float64(len(text))
	digits := hex.EncodeToString([]byte(text[:min(len(text), judgedLength)]))
	if bits := unnamed().Bits(digits); bits < all*2/3 {
		return bits
	}
	return all
}

// printable reports whether a key is a text, whatever it was written as.
func printable(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' })
}

// unnamed is what a guesser knows who knows no name.
var unnamed = sync.OnceValue(func() *strength.Names { return strength.NewNames(nil) })

// judge says what advises against a key; ok is false where nothing does.
func judge(p *audit.Pass, g *model.Gateway, k *model.Key, names *strength.Names, entropy float64) (f audit.Finding, ok bool) {
	if k.Hash {
		return f, false
	}
	f = audit.Finding{Gateway: g.Name, About: "key " + k.Name, At: audit.Evidence{Pos: k.At}}
	conns := g.ServedBy(k)
	if len(conns) > 0 {
		f.Connection = conns[0].Name
		f.Tunnel = tunnelOf(p, g, conns[0])
	}
	text := k.Secret.Reveal()
	var worst []string
	out := f
	for _, b := range p.Baselines(g, conns) {
		bits, length := b.Limit(baseline.KeyBits), b.Limit(baseline.KeyLength)
		var why []string
		one := f
		switch {
		case strength.Printed(text):
			why = append(why, "is an example that the manual of a daemon prints")
		case names.MostOf(text, shortestName):
			why = append(why, "contains a name from the configuration")
		case entropy < bits.Least:
			one.By(bits.Level, "")
			why = append(why, fmt.Sprintf("has an estimated strength of %.0f bits; at least %.0f are required", entropy, bits.Least))
		}
		if float64(len(text)) < length.Least && !(k.Coded && !printable(text)) { // bits are not counted in characters
			short := f
			short.By(length.Level, "")
			if short.Lower(1); len(why) == 0 || p.Severity(short) > p.Severity(one) {
				one = short
			}
			why = append(why, fmt.Sprintf("has %d characters; at least %.0f are required", len(text), length.Least))
		}
		if len(why) > 0 && (worst == nil || p.Severity(one) > p.Severity(out)) {
			worst, out = why, one
			out.Standard = cmp.Or(bits.Source.String(), length.Source.String())
		}
	}
	f = out
	f.Message = "the pre-shared key " + strings.Join(worst, ", and ")
	for _, c := range conns {
		if rules := p.Estate.KeyRulesFor(append(farNames(p, g, c), c.Name)...); len(rules) > 0 {
			f.Fix = "Use a random key within the far end's rule (" + rules[0].String() + "), as long as that allows; one key per peer."
			f.Also = append(f.Also, p.Evidence(rules[0].At, "the rule"))
			break
		}
	}
	return f, len(worst) > 0
}

// shortestName is the length in bytes of the shortest name that a key is said to be made of.
const shortestName = 4

// tunnelOf names the tunnel of a connection; "" where it has none.
func tunnelOf(p *audit.Pass, g *model.Gateway, c *model.Connection) string {
	if m := p.Estate.MatchOf(g, c); m != nil {
		return m.Name
	}
	return ""
}
