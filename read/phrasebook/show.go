package phrasebook

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"toril/model"
)

// OrderWords says an order of work in words.
func OrderWords(o model.Order) string {
	words := []string{"destination translation", "access rules", "source translation", "tunnel"}
	if o.AccessFirst {
		words[0], words[1] = words[1], words[0]
	}
	if o.TunnelFirst {
		words[2], words[3] = words[3], words[2]
	}
	return strings.Join(words, ", ")
}

// SyntaxWords says how text becomes statements, in words.
func (b *Book) SyntaxWords() string {
	words := []string{string(b.Manner.Kind)}
	for _, of := range []struct {
		what string
		list []string
	}{{"comments", b.Manner.Comments}, {"enter by", b.Manner.Enter}, {"leave by", b.Manner.Leave}, {"negated by", b.negates}} {
		if len(of.list) > 0 {
			words = append(words, of.what+" "+strings.Join(of.list, " "))
		}
	}
	if b.Fold {
		words = append(words, "capitals are the same as small letters")
	}
	return strings.Join(words, "; ")
}

// Told is a phrase with what it means, in a few words.
type Told struct {
	Say, Means string
	Depth      int // in how many others it stands
}

// Phrases are those of the book, in their order, each before those that stand in it.
func (b *Book) Phrases() []Told {
	var out []Told
	var add func(rules []*rule, depth int)
	add = func(rules []*rule, depth int) {
		for _, r := range rules {
			out = append(out, Told{r.phrase.String(), r.means(), depth})
			add(r.rules, depth+1)
		}
	}
	add(b.rules, 0)
	return out
}

// means says what a phrase means, in a few words.
func (r *rule) means() string {
	var words []string
	if r.moot != "" {
		return "of no consequence: " + r.moot
	}
	if r.makes != nothing {
		what := string(r.makes)
		if r.makes == named {
			what = r.kind
		}
		words = append(words, "begins "+what)
	}
	for _, a := range r.sets {
		words = append(words, "sets "+a.row.Name)
	}
	for _, o := range []struct {
		*offer
		what string
	}{{r.offers, "offers a proposal"}, {r.parts, "part of a proposal"}} {
		if o.offer != nil {
			words = append(words, o.what+" ("+o.of+")")
		}
	}
	for _, f := range r.facts {
		parts := slices.Concat(slices.Collect(maps.Keys(f.slots)), slices.Collect(maps.Keys(f.says)))
		slices.Sort(parts)
		words = append(words, f.what+": "+strings.Join(parts, ", "))
	}
	if len(r.adds) > 0 {
		words = append(words, "adds to it")
	}
	if len(r.uses) > 0 {
		words = append(words, "uses named settings")
	}
	if r.tells != nil {
		words = append(words, "tells the version")
	}
	return strings.Join(words, "; ")
}

// Words are those of the vocabulary, by type.
func (b *Book) Words() []Row {
	var out []Row
	for _, name := range slices.Sorted(maps.Keys(b.vocabulary)) {
		var words []string
		for _, w := range slices.Sorted(maps.Keys(b.vocabulary[name])) {
			words = append(words, w+" = "+b.vocabulary[name][w])
		}
		out = append(out, Row{Name: name, Value: strings.Join(words, ", ")})
	}
	return out
}

// Defaults are what holds where nothing is configured, the newest of a setting first.
func (b *Book) Defaults() []Row {
	var out []Row
	for _, name := range slices.Sorted(maps.Keys(b.defaults)) {
		for _, a := range b.defaults[name] {
			text := a.text
			if a.since != "" {
				text = fmt.Sprintf("%s, since %s", text, a.since)
			}
			out = append(out, Row{Name: name, Value: text})
		}
	}
	for _, d := range b.parts {
		text := "none"
		switch {
		case d.pick.asIt:
			text = "as of the IKE SA"
		case !d.pick.none:
			text = d.pick.String()
		}
		if d.since != "" {
			text += ", since " + d.since
		}
		out = append(out, Row{Name: d.of + " " + d.registry.String(), Value: text})
	}
	return out
}
