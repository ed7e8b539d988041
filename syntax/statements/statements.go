// Package statements reads the syntaxes in which devices of any make save what they are told, all as one tree: statements of words, in
// which others stand. Which syntax it is, and with which marks, is told (Manner). It knows no meaning.
package statements

import (
	"fmt"
	"slices"
	"strings"

	"toril/source"
	"toril/syntax"
)

// MaxDepth is how deep statements nest; what is deeper is passed over and said.
const MaxDepth = 64

// Statement is words, and the statements that stand in it.
type Statement struct {
	Words        []Word
	syntax.Place // from its first word to its last
	Nested       []*Statement
}

// Word is a piece of a statement.
type Word struct {
	Text         string
	Quoted       bool // it stands in quotation marks
	syntax.Place      // with its quotation marks
}

// Bad is a place at which the syntax is broken, and how.
type Bad struct {
	Line int
	Why  string
}

// Kind is a family of syntaxes.
type Kind string

// The kinds.
const (
	Lines  Kind = "lines"  // a statement a line; what is indented deeper, or stands up to a word that leaves, is nested
	Braces Kind = "braces" // statements end with a mark or with the line; those in braces are nested
	Paths  Kind = "paths"  // a statement a line, each whole by itself
	INI    Kind = "ini"    // headings in square brackets, keys with values below
	JSON   Kind = "json"   // a member or an element a statement
	YAML   Kind = "yaml"   // as of JSON
	XML    Kind = "xml"    // an element a statement, its attributes nested
)

// Kinds lists them all.
func Kinds() []Kind { return []Kind{Lines, Braces, Paths, INI, JSON, YAML, XML} }

// Manner is how a file is taken apart. JSON, YAML and XML need nothing but their kind.
type Manner struct {
	Kind     Kind
	Comments []string // what begins a comment, at the beginning of a line or behind a blank; it ends with the line
	Quotes   string   // characters that stand around texts with blanks
	Escape   bool     // within them a backslash takes the next character as it is
	Marks    string   // characters that are words by themselves
	Join     bool     // a line that ends in a backslash goes on in the next one
	End      string   // of braces: the mark that ends a statement; "" where the line does
	Enter    []string // of lines: first words of statements that hold what follows, indented or not
	Leave    []string // of lines: first words of statements that end what they stand in
	Clauses  []string // words that begin parts of statements, which stand in them as statements of their own
	Macros   string   // what stands before the name of a macro where it is used; NAME = WORDS says what it stands for; "": there are none
	Banners  []string // first words of statements whose last word is a mark, up to which a text goes on over lines
}

// Parse reads a file. What is bad loses nothing else.
func Parse(data []byte, m Manner) ([]*Statement, []Bad) {
	parse := m.lines
	switch m.Kind {
	case JSON, YAML, XML:
		parse = m.tree
	case Braces:
		parse = m.braces
	}
	return m.shape(parse(data))
}

// scanner cuts a text into words.
type scanner struct {
	m    *Manner
	data []byte
	at   int
	line int
	bad  []Bad
}

func (s *scanner) place(start, end, line int) syntax.Place {
	return syntax.Place{Line: line, Range: source.Range{Start: start, End: end}}
}

// lineEnd returns the length of a line end that begins here; 0 where none does.
func (s *scanner) lineEnd(at int) int {
	switch {
	case at < len(s.data) && s.data[at] == '\n':
		return 1
	case at+1 < len(s.data) && s.data[at] == '\r' && s.data[at+1] == '\n':
		return 2
	}
	return 0
}

// comment returns the length of a comment that begins here; 0 where none does.
func (s *scanner) comment() int {
	if s.at > 0 && !blank(s.data[s.at-1]) && s.data[s.at-1] != '\n' && strings.IndexByte(s.m.Marks+"{}"+s.m.End, s.data[s.at-1]) < 0 {
		return 0
	}
	for _, c := range s.m.Comments {
		if c == "" || !strings.HasPrefix(string(s.data[s.at:min(len(s.data), s.at+len(c))]), c) {
			continue
		}
		end := s.at
		for end < len(s.data) && s.lineEnd(end) == 0 {
			end++
		}
		return end - s.at
	}
	return 0
}

func blank(c byte) bool { return c == ' ' || c == '\t' || c == '\v' || c == '\f' || c == '\r' }

// mark reports whether a character is a word by itself.
func (s *scanner) mark(c byte) bool {
	return strings.IndexByte(s.m.Marks, c) >= 0 || s.m.Kind == Braces && (c == '{' || c == '}' || s.m.End != "" && s.m.End[0] == c)
}

// next returns the next word of a line; ok is false at the line's end, which is left standing.
func (s *scanner) next() (w Word, ok bool) {
	for s.at < len(s.data) {
		c := s.data[s.at]
		switch {
		case s.m.Join && c == '\\' && s.lineEnd(s.at+1) > 0:
			s.at += 1 + s.lineEnd(s.at+1)
			s.line++
		case s.lineEnd(s.at) > 0:
			return w, false
		case blank(c):
			s.at++
		case s.comment() > 0:
			s.at += s.comment()
		case strings.IndexByte(s.m.Quotes, c) >= 0:
			return s.quoted(c), true
		case s.mark(c):
			s.at++
			return Word{Text: string(c), Place: s.place(s.at-1, s.at, s.line)}, true
		default:
			return s.plain(), true
		}
	}
	return w, false
}

// plain reads up to a blank, a mark, or a line's end.
func (s *scanner) plain() Word {
	start := s.at
	for s.at++; s.at < len(s.data); s.at++ {
		c := s.data[s.at]
		if blank(c) || c == '\n' || s.mark(c) || s.m.Join && c == '\\' && s.lineEnd(s.at+1) > 0 {
			break
		}
	}
	return Word{Text: string(s.data[start:s.at]), Place: s.place(start, s.at, s.line)}
}

// quoted reads up to the mark that closes; one that is missing ends with the line.
func (s *scanner) quoted(q byte) Word {
	start, line := s.at, s.line
	var b strings.Builder
	for s.at++; s.at < len(s.data) && s.data[s.at] != q; s.at++ {
		if s.lineEnd(s.at) > 0 {
			s.bad = append(s.bad, Bad{line, "a quotation mark is not closed"})
			return Word{b.String(), true, s.place(start, s.at, line)}
		}
		if s.m.Escape && s.data[s.at] == '\\' && s.at+1 < len(s.data) && s.lineEnd(s.at+1) == 0 {
			s.at++
		}
		b.WriteByte(s.data[s.at])
	}
	if s.at >= len(s.data) {
		s.bad = append(s.bad, Bad{line, "a quotation mark is not closed"})
		return Word{b.String(), true, s.place(start, s.at, line)}
	}
	s.at++
	return Word{b.String(), true, s.place(start, s.at, line)}
}

// endLine passes over a line's end.
func (s *scanner) endLine() {
	if n := s.lineEnd(s.at); n > 0 {
		s.at += n
		s.line++
	}
}

// made makes a statement of words.
func made(words []Word) *Statement {
	return &Statement{Words: words, Place: syntax.Over(words[0].Place, words[len(words)-1].Place)}
}

// is reports whether the statement begins with one of some words.
func (st *Statement) is(first []string) bool {
	return len(st.Words) > 0 && !st.Words[0].Quoted && slices.Contains(first, st.Words[0].Text)
}

// open is a statement that others may still come into.
type open struct {
	st     *Statement
	indent int
	held   bool // up to a word that leaves
}

// lines reads lines, paths and INI.
func (m Manner) lines(data []byte) ([]*Statement, []Bad) {
	s := &scanner{m: &m, data: data, line: 1}
	root := &Statement{}
	stack := []open{{root, -1, true}}
	for s.at < len(s.data) {
		begin := s.at
		var words []Word
		for w, ok := s.next(); ok; w, ok = s.next() {
			words = append(words, w)
		}
		s.endLine()
		if len(words) == 0 {
			continue
		}
		st := made(words)
		if st.is(m.Banners) {
			s.banner(st)
		}
		indent := indentation(data[begin:words[0].Start])
		switch m.Kind {
		case Paths:
			root.Nested = append(root.Nested, st)
		case INI:
			s.ini(root, st)
		default:
			stack = s.nest(stack, st, indent)
		}
	}
	return root.Nested, s.bad
}

// indentation is the width of what stands before the first word, a tab up to the next eighth column.
func indentation(before []byte) int {
	n := 0
	for _, c := range before {
		if n++; c == '\t' {
			n += 7 - (n-1)%8
		}
	}
	return n
}

// nest puts a statement where its indentation and the words that enter and leave have it.
func (s *scanner) nest(stack []open, st *Statement, indent int) []open {
	for len(stack) > 1 && !stack[len(stack)-1].held && stack[len(stack)-1].indent >= indent {
		stack = stack[:len(stack)-1]
	}
	if st.is(s.m.Leave) {
		for len(stack) > 1 && !stack[len(stack)-1].held {
			stack = stack[:len(stack)-1]
		}
		in := stack[len(stack)-1].st
		in.Nested = append(in.Nested, st)
		if len(stack) > 1 {
			stack = stack[:len(stack)-1]
		}
		return stack
	}
	in := stack[len(stack)-1].st
	in.Nested = append(in.Nested, st)
	if len(stack) > MaxDepth {
		s.bad = append(s.bad, Bad{st.Line, fmt.Sprintf("statements nest more than %d deep", MaxDepth)})
		return stack
	}
	return append(stack, open{st, indent, st.is(s.m.Enter)})
}

// ini puts a statement under its heading.
func (s *scanner) ini(root, st *Statement) {
	first, last := st.Words[0], st.Words[len(st.Words)-1]
	if strings.HasPrefix(first.Text, "[") && !first.Quoted && strings.HasSuffix(last.Text, "]") && !last.Quoted {
		n := len(st.Words) - 1
		st.Words[0].Text, st.Words[0].Start = first.Text[1:], first.Start+1
		st.Words[n].Text, st.Words[n].End = strings.TrimSuffix(st.Words[n].Text, "]"), last.End-1
		if st.Words = slices.DeleteFunc(st.Words, func(w Word) bool { return w.Text == "" && !w.Quoted }); len(st.Words) > 0 {
			st.Place = made(st.Words).Place
		}
		root.Nested = append(root.Nested, st)
		return
	}
	if i := slices.IndexFunc(st.Words, func(w Word) bool { return !w.Quoted && strings.Contains(w.Text, "=") }); i >= 0 {
		if st.Words = divided(st.Words, i); len(st.Words) == 0 {
			s.bad = append(s.bad, Bad{st.Line, "a key and a value are missing"})
			return
		}
		st.Place = made(st.Words).Place
	}
	if n := len(root.Nested); n > 0 {
		root.Nested[n-1].Nested = append(root.Nested[n-1].Nested, st)
		return
	}
	s.bad = append(s.bad, Bad{st.Line, "it stands above every heading"})
	root.Nested = append(root.Nested, st)
}

// divided parts the first equals sign from what stands beside it, and leaves it out.
func divided(words []Word, i int) []Word {
	w := words[i]
	at := strings.IndexByte(w.Text, '=')
	var out []Word
	out = append(out, words[:i]...)
	if at > 0 {
		key := w
		key.Text, key.End = w.Text[:at], w.Start+at
		out = append(out, key)
	}
	if at+1 < len(w.Text) {
		value := w
		value.Text, value.Start = w.Text[at+1:], w.Start+at+1
		out = append(out, value)
	}
	return append(out, words[i+1:]...)
}

// banner takes the text of a statement up to the mark that is its last word.
func (s *scanner) banner(st *Statement) {
	mark := st.Words[len(st.Words)-1].Text
	if len(st.Words) < 2 || mark == "" {
		return
	}
	start, line := s.at, s.line
	for s.at < len(s.data) {
		begin := s.at
		for s.at < len(s.data) && s.lineEnd(s.at) == 0 {
			s.at++
		}
		text := string(s.data[begin:s.at])
		end := s.at
		s.endLine()
		if strings.Contains(text, mark) {
			st.Words = append(st.Words, Word{Text: string(s.data[start:end]), Quoted: true, Place: s.place(start, end, line)})
			st.End = end
			return
		}
	}
	s.bad = append(s.bad, Bad{st.Line, "its text has no end"})
	st.Words = append(st.Words, Word{Text: string(s.data[start:s.at]), Quoted: true, Place: s.place(start, s.at, line)})
	st.End = s.at
}
