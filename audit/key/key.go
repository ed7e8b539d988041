// Package key holds the checks of pre-shared keys. No key, and no part of one, ever reaches a finding.
package key

import (
	"slices"
	"strings"

	"toril/estate"
	"toril/ike"
	"toril/model"
)

// judgedLength is how much of a key the estimator looks at: more makes it slow and no key weaker.
const judgedLength = 64

// holder is a key with the gateway that holds it.
type holder struct {
	gateway *model.Gateway
	key     *model.Key
}

func keysOf(e *estate.Estate) []holder {
	var out []holder
	for _, g := range e.Gateways {
		for _, k := range g.Keys {
			if !k.PPK && !k.Secret.IsZero() {
				out = append(out, holder{g, k})
			}
		}
	}
	return out
}

// words are the names that a key may be made of: those of gateways, connections, identities and the far ends.
func words(e *estate.Estate, g *model.Gateway) []string {
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
		for _, k := range c.Children {
			add(k.Name)
		}
	}
	for _, t := range e.Tunnels {
		for _, end := range t.Ends {
			if end.Gateway == g {
				if far, ok := t.Far(end); ok {
					add(far.Gateway.Name)
				}
			}
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return len(s) < 3 })
}
