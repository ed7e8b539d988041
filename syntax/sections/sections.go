// Package sections reads the syntax of files with sections that begin at the margin and settings indented below them (ipsec.conf(5)), and
// that of ipsec.secrets beside them, whose entries go on in indented lines. It knows no meaning.
package sections

import (
	"bytes"
	"iter"
	"strings"
	"unicode"

	"toril/internal/lazy"
	"toril/source"
	"toril/syntax"
)

// Line is what stands on a line.
type Line struct {
	Text         string // without blanks around it, and without a comment
	syntax.Place        // of that
	Indented     bool
	Comment      bool // there is one
	Return       bool // a carriage return stands before the line end
	Within       bool // carriage returns stand elsewhere
}

// Head returns the first word and the rest.
func (l Line) Head() (word, rest string) {
	word, rest, _ = strings.Cut(strings.ReplaceAll(l.Text, "\t", " "), " ")
	return word, strings.TrimSpace(rest)
}

// Setting returns the line as a key, an equals sign and a value; ok is false where it is none.
func (l Line) Setting() (key, value string, ok bool) {
	key, value, ok = strings.Cut(l.Text, "=")
	key, value = strings.TrimSpace(key), strings.TrimSpace(value)
	return key, value, ok && !strings.ContainsAny(key, " \t\"")
}

// row is a line as it stands.
type row struct {
	line, start int
	text        string // without its end
	returned    bool   // a carriage return is part of that
}

func rows(data []byte) iter.Seq[row] {
	return func(yield func(row) bool) {
		line, start := 0, 0
		for raw := range bytes.Lines(data) {
			line++
			raw = bytes.TrimSuffix(raw, []byte("\n"))
			text := bytes.TrimRight(raw, "\r")
			if !yield(row{line, start, string(text), len(text) < len(raw)}) {
				return
			}
			start += len(raw) + 1
		}
	}
}

// place returns a part of a row without blanks around it, and where that stands.
func (r row) place(part string) (text string, at syntax.Place) {
	text = strings.TrimSpace(part)
	start := r.start + len(part) - len(strings.TrimLeftFunc(part, unicode.IsSpace))
	return text, syntax.Place{Line: r.line, Range: source.Range{Start: start, End: start + len(text)}}
}

func (r row) indented() bool { return r.text != "" && (r.text[0] == ' ' || r.text[0] == '\t') }

// Parse returns every line of a file.
func Parse(data []byte) iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for r := range rows(data) {
			said := cut(r.text)
			one := Line{
				Indented: r.indented(),
				Comment:  len(said) < len(r.text),
				Return:   r.returned,
				Within:   strings.Contains(r.text, "\r"),
			}
			if one.Text, one.Place = r.place(said); !yield(one) {
				return
			}
		}
	}
}

// cut drops a comment: what stands behind a "#" outside of quotation marks, at the start or behind a blank.
func cut(line string) string {
	quoted := false
	for i := range len(line) {
		switch line[i] {
		case '"':
			quoted = !quoted
		case '#':
			if !quoted && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t') {
				return line[:i]
			}
		}
	}
	return line
}

// Entry is one of ipsec.secrets: a line, and those behind it that go on with it.
type Entry struct {
	syntax.Place
	Last  int      // its last line
	Blank bool     // its first line begins with a blank
	Words []string // as they are written; a comment is none
	Text  string   // without blanks around it, its lines joined by one
}

// own is a line that is an entry whatever it begins with.
var own = lazy.Regexp(`(^|\s):\s*[A-Za-z0-9]+\s`)

// Entries returns the entries of ipsec.secrets. Lines of nothing and of comments are none, and end one.
func Entries(data []byte) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		var e *Entry
		for r := range rows(data) {
			text, at := r.place(r.text)
			said := text != "" && text[0] != '#'
			switch {
			case e != nil && text == "" && r.text != "": // blanks
				continue
			case e != nil && said && r.indented() && !e.Includes() && !own().MatchString(r.text):
				e.Text += " " + text
				e.Last, e.End = at.Line, at.End
				continue
			case e != nil && !yield(e.split()):
				return
			}
			if e = nil; said {
				e = &Entry{Place: at, Last: at.Line, Blank: r.indented(), Text: text}
			}
		}
		if e != nil {
			yield(e.split())
		}
	}
}

// Includes reports whether the entry is an include.
func (e *Entry) Includes() bool {
	word, _, _ := strings.Cut(e.Text, " ")
	return word == "include"
}

// split takes the entry's words apart.
func (e *Entry) split() Entry {
	e.Words = Fields(e.Text)
	return *e
}

// Fields splits at blanks outside of quotation marks; a comment ends the list.
func Fields(s string) []string {
	var out []string
	for i := 0; i < len(s); {
		switch {
		case s[i] == ' ' || s[i] == '\t':
			i++
		case s[i] == '#':
			return out
		default:
			start, quote := i, byte(0)
			for i < len(s) && (quote != 0 || s[i] != ' ' && s[i] != '\t') {
				switch {
				case quote != 0 && s[i] == quote:
					quote = 0
				case quote == 0 && (s[i] == '"' || s[i] == '\''):
					quote = s[i]
				}
				i++
			}
			out = append(out, s[start:i])
		}
	}
	return out
}
