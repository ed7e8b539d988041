package baseline_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/baseline"
	"toril/ike"
)

// draft is a baseline as it is written, part by part.
type draft struct {
	extends string
	rules   []string
	limits  map[string]string
	demands map[string]string
	scoped  []string // rules of a scope that fits
}

func (d draft) text() string {
	var b strings.Builder
	b.WriteString("name: x\n")
	if d.extends != "" {
		fmt.Fprintf(&b, "extends: %s\n", d.extends)
	}
	list := func(indent, key string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(&b, "%s%s:\n%s- %s\n", indent, key, indent, strings.Join(lines, "\n"+indent+"- "))
		}
	}
	table := func(key string, lines map[string]string) {
		if len(lines) > 0 {
			fmt.Fprintf(&b, "%s:\n", key)
		}
		for name, line := range lines {
			fmt.Fprintf(&b, "  %s: %s\n", name, line)
		}
	}
	list("", "algorithms", d.rules)
	table("limits", d.limits)
	table("demands", d.demands)
	if len(d.scoped) > 0 {
		b.WriteString("scopes:\n- gateways: [g]\n")
		list("  ", "algorithms", d.scoped)
	}
	return b.String()
}

var lawTypes = map[string]ike.Registry{"encryption": ike.Encryption, "integrity": ike.Integrity, "key-exchange": ike.KeyExchange}

// ruleOf makes a rule: of some algorithms of a type, or of all others.
func ruleOf(r *rand.Rand, level string) string {
	types := []string{"encryption", "integrity", "key-exchange"}
	kind := types[r.IntN(len(types))]
	names := []string{}
	for _, a := range ike.Catalogue {
		if a.Registry == lawTypes[kind] && r.IntN(4) == 0 {
			names = append(names, fmt.Sprintf("%q", a.Name))
		}
	}
	if len(names) == 0 || r.IntN(3) == 0 {
		names = []string{`"*"`}
	}
	return fmt.Sprintf("{for: [ike, esp], type: %s, names: [%s], level: %s}", kind, strings.Join(names, ", "), level)
}

func random(r *rand.Rand) draft {
	d := draft{limits: map[string]string{}, demands: map[string]string{}}
	d.extends = append(baseline.Names(), "")[r.IntN(len(baseline.Names())+1)]
	levels := []string{"MAY", "SHOULD", "MUST", "SHOULD NOT", "MUST NOT"}
	for range r.IntN(5) {
		d.rules = append(d.rules, ruleOf(r, levels[r.IntN(len(levels))]))
	}
	for range r.IntN(3) {
		d.scoped = append(d.scoped, ruleOf(r, levels[r.IntN(len(levels))]))
	}
	return d
}

// stricter adds a line that says more, or says more strictly what the draft says.
func (d draft) stricter(r *rand.Rand, was *baseline.Baseline) draft {
	more := d
	switch r.IntN(4) {
	case 0: // of what it may name already, it comes first
		more.rules = append([]string{ruleOf(r, "MUST NOT")}, d.rules...)
	case 1:
		more.scoped = append([]string{ruleOf(r, "MUST NOT")}, d.scoped...)
	case 2:
		more.limits = map[string]string{}
		if l := was.Limit(baseline.IKELifetime); r.IntN(2) == 0 {
			most := 3600.
			if l.Most > 0 {
				most = l.Most / 2
			}
			more.limits["ike-lifetime"] = fmt.Sprintf("{most: %ds}", int(most))
		} else {
			more.limits["ike-lifetime"] = fmt.Sprintf("{least: %ds}", int(l.Least)+60)
		}
	case 3:
		more.demands = map[string]string{"pfs": "{level: MUST}"}
	}
	return more
}

func against(l baseline.Level) int {
	return map[baseline.Level]int{baseline.ShouldNot: 1, baseline.MustNot: 2}[l]
}

// TestAStricterLineLetsNothingThrough: of random baselines, each with and without a line that is stricter, whatever the one rules out the
// other rules out too.
func TestAStricterLineLetsNothingThrough(t *testing.T) {
	r := rand.New(rand.NewPCG(20261201, 14))
	tighter := 0
	for range 2000 {
		d := random(r)
		one, err := baseline.Parse("a.yaml", []byte(d.text()))
		require.NoError(t, err, d.text())
		with := d.stricter(r, one)
		two, err := baseline.Parse("b.yaml", []byte(with.text()))
		require.NoError(t, err, with.text())
		for _, gateway := range []string{"g", "h"} {
			a, b := one.For(gateway), two.For(gateway)
			for i := range ike.Catalogue {
				if !slices.Contains(slices.Collect(maps.Values(lawTypes)), ike.Catalogue[i].Registry) {
					continue
				}
				for _, p := range []ike.Protocol{ike.IKE, ike.ESP} {
					c := ike.Choice{Algorithm: &ike.Catalogue[i]}
					x, _ := a.Judge(p, c)
					y, _ := b.Judge(p, c)
					if against(y) > against(x) {
						tighter++
					}
					require.GreaterOrEqual(t, against(y), against(x), "%s of %s at %s\n%s\n%s", c.Name, p, gateway, d.text(), with.text())
				}
			}
			x, y := a.Limit(baseline.IKELifetime), b.Limit(baseline.IKELifetime)
			assert.True(t, x.Most == 0 || y.Most > 0 && y.Most <= x.Most, with.text())
			assert.GreaterOrEqual(t, y.Least, x.Least, with.text())
			assert.GreaterOrEqual(t, b.Demand(baseline.PFS).Level, a.Demand(baseline.PFS).Level, with.text())
		}
	}
	assert.Greater(t, tighter, 2000)
}

// TestOnlyWhatIsNamed: a baseline that rules out all but what it names does so whatever it extends.
func TestOnlyWhatIsNamed(t *testing.T) {
	b, err := baseline.Parse("site.yaml", []byte(`name: site
extends: sound
algorithms:
- {for: [esp], type: encryption, names: [ENCR_AES_GCM_16], bits: [256], level: MUST}
- {for: [esp], type: encryption, names: ["*"], level: MUST NOT}
`))
	require.NoError(t, err)
	for c, want := range map[ike.Choice]baseline.Level{
		ike.Pick(ike.Encryption, 20, 256): baseline.Must,
		ike.Pick(ike.Encryption, 20, 128): baseline.MustNot,
		ike.Pick(ike.Encryption, 12, 256): baseline.MustNot,
	} {
		level, _ := b.Judge(ike.ESP, c)
		assert.Equal(t, want, level, c)
	}
	level, _ := b.Judge(ike.IKE, ike.Pick(ike.Encryption, 12, 256))
	assert.Equal(t, baseline.Must, level, "of IKE it says nothing")
}
