package statements

import (
	"fmt"
	"slices"
	"strings"

	"toril/syntax"
)

// maxExpanded bounds the words that macros bring into a file.
const maxExpanded = 1 << 20

// shape expands macros and cuts statements into clauses, where the manner has these.
func (m Manner) shape(list []*Statement, bad []Bad) ([]*Statement, []Bad) {
	if m.Macros != "" {
		e := &expander{m: m, known: map[string][]Word{}}
		list = e.all(list)
		bad = append(bad, e.bad...)
	}
	if len(m.Clauses) > 0 {
		m.cut(list)
	}
	return list, bad
}

// expander puts the words of macros in place of their names.
type expander struct {
	m     Manner
	known map[string][]Word
	words int
	bad   []Bad
}

// all expands statements, and takes those out that say what a macro stands for.
func (e *expander) all(list []*Statement) []*Statement {
	var out []*Statement
	for _, st := range list {
		st.Words = e.expand(st.Words)
		if w := st.Words; len(w) > 2 && w[1].Text == "=" && !w[1].Quoted && !w[0].Quoted && len(st.Nested) == 0 {
			var value []Word
			for _, v := range w[2:] {
				if !v.Quoted || !strings.ContainsAny(v.Text, " \t") {
					value = append(value, v)
					continue
				}
				for t := range strings.FieldsSeq(v.Text) {
					value = append(value, Word{Text: t, Place: v.Place})
				}
			}
			e.known[w[0].Text] = value
			continue
		}
		st.Nested = e.all(st.Nested)
		if len(st.Words) > 0 || len(st.Nested) > 0 {
			out = append(out, st)
		}
	}
	return out
}

func (e *expander) expand(words []Word) []Word {
	if !slices.ContainsFunc(words, func(w Word) bool { return e.name(w) != "" }) {
		return words
	}
	var out []Word
	for _, w := range words {
		value, known := e.known[e.name(w)]
		if e.name(w) == "" || !known {
			out = append(out, w)
			continue
		}
		if e.words += len(value); e.words > maxExpanded {
			if e.words-len(value) <= maxExpanded {
				e.bad = append(
					e.bad,
					Bad{w.Line, fmt.Sprintf("macros stand for more than %d words; the rest is not expanded", maxExpanded)},
				)
			}
			out = append(out, w)
			continue
		}
		for _, v := range value {
			out = append(out, Word{v.Text, v.Quoted, w.Place})
		}
	}
	return out
}

// name is the macro that a word means; "" for none.
func (e *expander) name(w Word) string {
	name, ok := strings.CutPrefix(w.Text, e.m.Macros)
	if !ok || w.Quoted {
		return ""
	}
	return name
}

// cut makes the pieces of statements that begin with a clause's word statements within them.
func (m Manner) cut(list []*Statement) {
	for _, st := range list {
		m.cut(st.Nested)
		begins := func(w Word) bool { return !w.Quoted && slices.Contains(m.Clauses, w.Text) }
		first := 1
		for first < len(st.Words) && !begins(st.Words[first]) {
			first++
		}
		if first >= len(st.Words) || len(st.Words) == 0 || begins(st.Words[0]) {
			continue
		}
		var pieces []*Statement
		for at := first; at < len(st.Words); {
			end := at + 1
			for end < len(st.Words) && !begins(st.Words[end]) {
				end++
			}
			pieces = append(pieces, made(st.Words[at:end:end]))
			at = end
		}
		st.Words = st.Words[:first:first]
		st.Place = syntax.Over(st.Words[0].Place, st.Words[first-1].Place)
		st.Nested = append(pieces, st.Nested...)
	}
}
