package phrasebook

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"toril/model"
	"toril/model/settings"
	"toril/source"
)

// Difference is a fact of an example that was not found as it should be.
type Difference struct {
	At          source.Pos // of the example
	Subject     string     // "connection" or "connection/child"
	Setting     string     // "" where the subject is not there
	Want, Found string
}

// String returns the difference in a line.
func (d Difference) String() string {
	if d.Setting == "" {
		return fmt.Sprintf("%s: %s %s", d.At, d.Subject, d.Found)
	}
	return fmt.Sprintf("%s: %s of %s is %s; the example says %s", d.At, d.Setting, d.Subject, d.Found, d.Want)
}

// Test reads the examples and returns what is not found as they say, unread statements among it.
func (b *Book) Test(ctx context.Context) []Difference {
	var out []Difference
	for _, e := range b.Examples {
		t := b.Try(ctx, source.NewFile("example", []byte(e.Text)))
		g := t.Gateway
		for _, u := range t.File.Unread {
			out = append(out, Difference{At: e.At, Subject: fmt.Sprintf("line %d", u.At.Line), Found: "is not understood: " + u.Why})
		}
		for _, p := range g.Problems {
			out = append(out, Difference{At: e.At, Subject: fmt.Sprintf("line %d", p.Line), Found: p.Message})
		}
		out = append(out, e.missed(g)...)
	}
	return out
}

// missed are the facts that a gateway does not show.
func (e Example) missed(g *model.Gateway) []Difference {
	var out []Difference
	for _, subject := range slices.Sorted(maps.Keys(e.Facts)) {
		want := e.Facts[subject]
		if counted(subject) {
			out = append(out, e.counts(g, subject, want)...)
			continue
		}
		s, ok := find(g, subject)
		if !ok {
			out = append(out, Difference{At: e.At, Subject: subject, Found: "is not there"})
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(want)) {
			row := settings.Named(name)
			if row == nil {
				out = append(out, Difference{e.At, subject, name, want[name], "no setting that Toril knows"})
				continue
			}
			if v, has := row.Get(s); !has || v.Text != want[name] && v.Plain != want[name] {
				out = append(out, Difference{e.At, subject, name, want[name], found(v)})
			}
		}
	}
	return out
}

// found is a value as it was found: as it is configured, and in words that no language's are where these differ.
func found(v settings.Shown) string {
	if v.Plain != v.Text {
		return fmt.Sprintf("%q, which is %q", v.Text, v.Plain)
	}
	return fmt.Sprintf("%q", v.Text)
}

// counted reports whether a subject is the gateway as a whole, of which an example says how much there is.
func counted(subject string) bool { return subject == "gateway" }

// counts compares how much of everything there is.
func (e Example) counts(g *model.Gateway, subject string, want map[string]string) []Difference {
	found := Counts(g)
	var out []Difference
	for _, name := range slices.Sorted(maps.Keys(want)) {
		n, ok := found[name]
		switch {
		case !ok:
			out = append(out, Difference{e.At, subject, name, want[name], "nothing that is counted"})
		case fmt.Sprint(n) != want[name]:
			out = append(out, Difference{e.At, subject, name, want[name], fmt.Sprint(n)})
		}
	}
	return out
}

// Counts are how many things of each kind a gateway has.
func Counts(g *model.Gateway) map[string]int {
	out := map[string]int{
		"connections": len(g.Connections),
		"keys":        len(g.Keys),
		"interfaces":  len(g.Interfaces),
		"routes":      len(g.Routes),
	}
	rules, nats := 0, 0
	for _, c := range g.Chains {
		if c.Kind == model.NATChain {
			nats += len(c.Rules)
		} else {
			rules += len(c.Rules)
		}
	}
	out["rules"], out["translations"] = rules, nats
	return out
}

// find returns a connection, or a child of one, by "connection" or "connection/child".
func find(g *model.Gateway, name string) (s settings.Subject, ok bool) {
	for _, c := range g.Connections {
		if c.Name == name {
			return settings.Subject{Connection: c}, true
		}
		for _, k := range c.Children {
			if c.Name+"/"+k.Name == name {
				return settings.Subject{Connection: c, Child: k}, true
			}
		}
	}
	return s, false
}
