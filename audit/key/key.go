// Package key holds the checks of pre-shared keys. No key, and no part of one, ever reaches a finding.
package key

import (
	"slices"
	"strings"

	"toril/audit"
	"toril/ike"
	"toril/model"
)

// judgedLength is how much of a key the estimator looks at: more makes it slow and no key weaker.
const judgedLength = 64

// given are the keys of a gateway whose value was given.
func given(g *model.Gateway) []*model.Key {
	return slices.DeleteFunc(slices.Clone(g.Keys), func(k *model.Key) bool { return !k.Given() })
}

// words are the names that a key may be made of: those of gateways, connections, identities and the far ends.
func words(p *audit.Pass, g *model.Gateway) []string {
	out := []string{g.Name}
	add := func(s string) {
		out = append(out, s)
		out = append(out, strings.FieldsFunc(s, func(r rune) bool { return strings.ContainsRune(".-_@= ,/:", r) })...)
	}
	for _, c := range g.Connections {
		add(c.Name)
		for _, id := range []ike.Identity{c.Local.ID.Value, c.Remote.ID.Value} {
			add(id.Value)
		}
		for _, a := range slices.Concat(c.LocalAddrs.Value, c.RemoteAddrs.Value) {
			out = append(out, a.Text, strings.ReplaceAll(a.Text, ".", ""))
		}
		for _, k := range c.Children {
			add(k.Name)
		}
	}
	for _, m := range p.Estate.MatchesOf(g) {
		for _, s := range m.Sides {
			if s.Gateway.Number != g.Number {
				add(s.Gateway.Name)
			}
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return len(s) < 3 })
}

// farNames are the names of the gateways at the far ends of a connection.
func farNames(p *audit.Pass, g *model.Gateway, c *model.Connection) []string {
	var out []string
	if m := p.Estate.MatchOf(g, c); m != nil {
		for _, s := range m.Sides {
			if s.Gateway.Number != g.Number {
				out = append(out, s.Gateway.Name)
			}
		}
	}
	return out
}
