package estate

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"unicode"

	"toril/internal/strictyaml"
	"toril/source"
)

// KeyRule is what a far end's device takes as a pre-shared key.
type KeyRule struct {
	At         source.Pos
	Partner    string // pattern of the far gateway's name, or of the connection's (path.Match)
	Least      int    // length in characters
	Most       int    // 0: any
	Characters []string
	Forbids    string // characters that may not be in it
	Source     string // who says so
}

type keyRuleText struct {
	Partner    string   `yaml:"partner"`
	Least      int      `yaml:"least"`
	Most       int      `yaml:"most"`
	Characters []string `yaml:"characters"`
	Forbids    string   `yaml:"forbids"`
	Source     string   `yaml:"source"`
}

// kinds are the kinds of characters that a rule may name.
var kinds = sync.OnceValue(func() map[string]func(r rune) bool {
	return map[string]func(r rune) bool{
		"letters":   func(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' },
		"lowercase": func(r rune) bool { return r >= 'a' && r <= 'z' },
		"uppercase": func(r rune) bool { return r >= 'A' && r <= 'Z' },
		"digits":    func(r rune) bool { return r >= '0' && r <= '9' },
		"marks":     func(r rune) bool { return r > ' ' && r < 0x7f && !unicode.IsLetter(r) && !unicode.IsDigit(r) },
		"blanks":    func(r rune) bool { return r == ' ' },
	}
})

func keyRules(texts []keyRuleText, file string, tree *strictyaml.Tree) ([]*KeyRule, error) {
	var out []*KeyRule
	for i, t := range texts {
		at := source.Pos{File: file, Line: tree.Line(fmt.Sprintf("$.keys[%d]", i))}
		if _, err := path.Match(t.Partner, ""); err != nil || t.Partner == "" {
			return nil, source.Errorf(at, "a rule for keys names its partner: partner: quayside")
		}
		if t.Least < 0 || t.Most < 0 || t.Most > 0 && t.Most < t.Least {
			return nil, source.Errorf(at, "least and most are lengths in characters, and most is not less than least")
		}
		for _, c := range t.Characters {
			if kinds()[c] == nil {
				return nil, source.Errorf(at, "%q is no kind of characters; known are: %s", c,
					strings.Join(slices.Sorted(maps.Keys(kinds())), ", "))
			}
		}
		out = append(out, &KeyRule{at, t.Partner, t.Least, t.Most, t.Characters, t.Forbids, t.Source})
	}
	return out, nil
}

// For reports whether the rule is about a partner, by any of its names.
func (r *KeyRule) For(names ...string) bool {
	return slices.ContainsFunc(names, func(n string) bool { ok, _ := path.Match(r.Partner, n); return ok })
}

// Breaks says how a key breaks the rule, without the key: "has 12 characters; at least 20 are required"; nil where it does not.
func (r *KeyRule) Breaks(key string) []string {
	var out []string
	n := len([]rune(key))
	if n < r.Least {
		out = append(out, fmt.Sprintf("it has %d characters; at least %d are required", n, r.Least))
	}
	if r.Most > 0 && n > r.Most {
		out = append(out, fmt.Sprintf("it has %d characters; at most %d are taken", n, r.Most))
	}
	if len(r.Characters) > 0 && strings.ContainsFunc(key, func(c rune) bool {
		return !slices.ContainsFunc(r.Characters, func(k string) bool { return kinds()[k](c) })
	}) {
		out = append(out, "it has characters that are not "+strings.Join(r.Characters, " or "))
	}
	if strings.ContainsAny(key, r.Forbids) {
		out = append(out, "it has characters that are forbidden")
	}
	return out
}

// String says the rule: "20 to 64 characters, letters or digits".
func (r *KeyRule) String() string {
	var out []string
	switch {
	case r.Most > 0:
		out = append(out, fmt.Sprintf("%d to %d characters", r.Least, r.Most))
	case r.Least > 0:
		out = append(out, fmt.Sprintf("at least %d characters", r.Least))
	}
	if len(r.Characters) > 0 {
		out = append(out, strings.Join(r.Characters, " or "))
	}
	if r.Forbids != "" {
		out = append(out, fmt.Sprintf("none of %q", r.Forbids))
	}
	if out == nil {
		return "any key"
	}
	return strings.Join(out, ", ")
}

// KeyRulesFor are the rules about a partner.
func (e *Estate) KeyRulesFor(names ...string) []*KeyRule {
	var out []*KeyRule
	for _, r := range e.KeyRules {
		if r.For(names...) {
			out = append(out, r)
		}
	}
	return out
}
