package key

import (
	"cmp"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/internal/strength"
	"toril/model"
)

// Weak speaks where a key can be guessed.
var Weak = &audit.Check{
	Name:     "key/weak",
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
	Estate: func(p *audit.Pass) {
		seen := map[[32]byte]int{}
		var found []audit.Finding
		keys := keysOf(p.Estate)
		names := map[*model.Gateway][]string{}
		for _, h := range keys {
			if names[h.gateway] == nil {
				names[h.gateway] = words(p.Estate, h.gateway)
			}
		}
		guesses := make([]float64, len(keys))
		if len(keys) > mostGuessed {
			f := audit.Finding{Gateway: keys[mostGuessed].gateway.Name, At: audit.Evidence{Pos: keys[mostGuessed].key.At}}
			f.Message = fmt.Sprintf(
				"there are %d pre-shared keys; the strength was estimated for the first %d; of the others only length and names were "+
					"judged",
				len(keys),
				mostGuessed,
			)
			f.Lower(3) // worth knowing
			p.Report(f)
		}
		var group errgroup.Group
		group.SetLimit(runtime.GOMAXPROCS(0))
		for at := 0; at < len(keys); at += batch {
			group.Go(func() error {
				for i := at; i < min(at+batch, len(keys)) && p.Context.Err() == nil; i++ {
					guesses[i] = math.Inf(1)
					if i < mostGuessed {
						guesses[i] = guess(keys[i].key, names[keys[i].gateway])
					}
				}
				return p.Context.Err()
			})
		}
		if group.Wait() != nil {
			return
		}
		for i, h := range keys {
			f, ok := judge(p, h.gateway, h.key, names[h.gateway], guesses[i])
			if !ok {
				continue
			}
			fp := h.key.Secret.Fingerprint()
			if i, again := seen[fp]; again { // the far end's copy of the same key
				if also := found[i].Also; p.Severity(f) > p.Severity(found[i]) {
					f.Gateway, f.Connection, f.Tunnel, f.At, f.Message, f.Also = found[i].Gateway, found[i].Connection, found[i].Tunnel,
						found[i].At, found[i].Message, also
					found[i] = f
				}
				found[i].Also = append(found[i].Also, audit.Evidence{Pos: h.key.At, Note: "the same key"})
				continue
			}
			seen[fp] = len(found)
			found = append(found, f)
		}
		for _, f := range found {
			p.Report(f)
		}
	},
}

// mostGuessed is of how many keys of one run it is estimated how hard they are to guess.
const mostGuessed = 5_000

// batch is how many keys are estimated in a row.
const batch = 64

// guess estimates what a key is worth to a guesser, in bits, who knows some names.
func guess(k *model.Key, names []string) float64 {
	if k.Hash {
		return 0
	}
	text := k.Secret.Reveal()
	return strength.Bits(text[:min(len(text), judgedLength)], names)
}

// judge says what speaks against a key; ok is false where nothing does.
func judge(p *audit.Pass, g *model.Gateway, k *model.Key, names []string, entropy float64) (f audit.Finding, ok bool) {
	if k.Hash {
		return f, false
	}
	f = audit.Finding{Gateway: g.Name, About: "key " + k.Name, At: audit.Evidence{Pos: k.At}}
	conns := serves(g, k)
	if len(conns) > 0 {
		f.Connection = conns[0].Name
		f.Tunnel = tunnelOf(p.Estate, g, conns[0])
	}
	text := k.Secret.Reveal()
	var worst []string
	out := f
	for _, b := range p.Baselines(g, conns) {
		bits, length := b.Limit(baseline.KeyBits), b.Limit(baseline.KeyLength)
		var why []string
		one := f
		switch {
		case derived(text, names):
			why = append(why, "contains a name from the configuration")
		case entropy < bits.Least:
			one.By(bits.Level, "")
			why = append(why, fmt.Sprintf("has an estimated strength of %.0f bits; at least %.0f are required", entropy, bits.Least))
		}
		if float64(len(text)) < length.Least {
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
	return f, len(worst) > 0
}

// derived reports whether most of a key is one of the names.
func derived(key string, names []string) bool {
	key = strings.ToLower(key)
	for _, n := range names {
		if n = strings.ToLower(n); len(n) >= 4 && strings.Contains(key, n) && 2*len(n) > len(key) {
			return true
		}
	}
	return false
}

// serves returns the connections of a gateway that may use a key.
func serves(g *model.Gateway, k *model.Key) []*model.Connection {
	return slices.DeleteFunc(slices.Clone(g.Connections), func(c *model.Connection) bool { return !k.Serves(c) })
}

func tunnelOf(e *estate.Estate, g *model.Gateway, c *model.Connection) string {
	for _, t := range e.Tunnels {
		for _, end := range t.Ends {
			if end.Gateway == g && end.Connection == c {
				return t.Name
			}
		}
	}
	return ""
}
