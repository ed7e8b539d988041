// Package lines reads the syntax of files whose statements are lines of words, indented or not, joined or not, with texts in quotation
// marks or not. It knows no meaning.
package lines

import (
	"bytes"
	"iter"
	"strings"
	"unicode"

	"toril/source"
	"toril/syntax"
)

// Manner is how a file's lines are taken apart.
type Manner struct {
	Comments string // a line whose first character is one of these is a comment
	Joined   bool   // a line that ends in a backslash goes on in the next one; a comment does not
	Quoted   bool   // words may stand in quotation marks, with backslashes in them (iptables-restore(8), ipset(8))
}

// Line is a line, or several that are joined.
type Line struct {
	syntax.Place               // from its first word to its last; empty where there is none
	Text         string        // as it stands, without its end; without the backslashes that join
	Words        []syntax.Word // of a comment none
	Comment      bool
	Return       bool // a carriage return stands before the line end
}

// Indented reports whether the line begins with a blank.
func (l Line) Indented() bool { return l.Text != "" && (l.Text[0] == ' ' || l.Text[0] == '\t') }

// Fields returns the texts of the words.
func (l Line) Fields() []string { return l.AppendFields(make([]string, 0, len(l.Words))) }

// AppendFields adds the texts of the words to out.
func (l Line) AppendFields(out []string) []string {
	for i := range l.Words {
		out = append(out, l.Words[i].Text)
	}
	return out
}

// Parse returns every line of a file.
func Parse(data []byte, m Manner) iter.Seq[Line] { return From(data, 0, 1, m) }

// From returns the lines of a file from a byte on, where a line begins, whose number is n.
func From(data []byte, at, n int, m Manner) iter.Seq[Line] {
	return func(yield func(Line) bool) {
		var pieces []piece
		var room []syntax.Word
		for at, n := at, n; at < len(data); {
			var l Line
			var next, count int
			l, pieces, next, count = m.line(data, at, pieces[:0])
			l.Line = n
			l.Start, l.End = at, at
			if !l.Comment {
				if cap(room)-len(room) < usual {
					room = make([]syntax.Word, 0, min(max(2*cap(room), 2*usual), 32*usual))
				}
				words := m.words(l.Text, pieces, room[len(room):])
				if len(words) <= cap(room)-len(room) {
					room = room[:len(room)+len(words)]
				}
				l.Words = words[:len(words):len(words)]
			}
			if len(l.Words) > 0 {
				l.Start, l.End = l.Words[0].Start, l.Words[len(l.Words)-1].End
				l.Line += bytes.Count(data[at:l.Start], []byte("\n"))
			}
			if !yield(l) {
				return
			}
			at, n = next, n+count
		}
	}
}

// piece says at which byte of the file a part of a line's text begins.
type piece struct{ text, file int }

// line reads a line, and what is joined to it; its pieces are added to those given.
func (m Manner) line(data []byte, at int, pieces []piece) (l Line, _ []piece, next, count int) {
	for next = at; ; {
		raw := data[next:]
		here, last := next, true
		if i := bytes.IndexByte(raw, '\n'); i >= 0 {
			raw = raw[:i]
			next += i + 1
			last = next >= len(data)
		} else {
			next = len(data)
		}
		count++
		text := bytes.TrimRight(raw, "\r")
		l.Return = len(text) < len(raw)
		pieces = append(pieces, piece{len(l.Text), here})
		if count == 1 {
			first := bytes.TrimLeftFunc(text, unicode.IsSpace)
			l.Comment = len(first) > 0 && strings.IndexByte(m.Comments, first[0]) >= 0
		}
		if !m.Joined || l.Comment || last || !bytes.HasSuffix(text, []byte("\\")) {
			l.Text += string(text)
			return l, pieces, next, count
		}
		l.Text += string(text[:len(text)-1])
	}
}

// usual is how many words a line has at most, as a rule.
const usual = 32

// words takes a text apart, and adds its words to out.
func (m Manner) words(text string, pieces []piece, out []syntax.Word) []syntax.Word {
	add := func(word string, start, end int) {
		at := func(n int) int {
			i := len(pieces) - 1
			for i > 0 && pieces[i].text > n {
				i--
			}
			return pieces[i].file + n - pieces[i].text
		}
		out = append(out, syntax.Word{Text: word, Range: source.Range{Start: at(start), End: at(end-1) + 1}})
	}
	if m.Quoted {
		quoted(text, add)
		return out
	}
	start := -1
	for i, r := range text {
		switch space := unicode.IsSpace(r); {
		case space && start >= 0:
			add(text[start:i], start, i)
			start = -1
		case !space && start < 0:
			start = i
		}
	}
	if start >= 0 {
		add(text[start:], start, len(text))
	}
	return out
}

// AppendFields adds the texts of the words of a line to out.
func (m Manner) AppendFields(out []string, line string) []string {
	if !m.Quoted {
		return append(out, strings.Fields(line)...)
	}
	if strings.IndexByte(line, '"') >= 0 {
		quoted(line, func(word string, _, _ int) { out = append(out, word) })
		return out
	}
	start := -1
	for i := 0; i < len(line); i++ {
		if c := line[i]; c != ' ' && c != '\t' && c != '\r' {
			if start < 0 {
				start = i
			}
		} else if start >= 0 {
			out, start = append(out, line[start:i]), -1
		}
	}
	if start >= 0 {
		out = append(out, line[start:])
	}
	return out
}

// quoted takes words apart of which some stand in quotation marks. A mark that closes ends a word; one that is not closed takes the line's
// end with it.
func quoted(text string, add func(word string, start, end int)) {
	var b strings.Builder
	start, within := -1, false
	flush := func(end int) {
		if start >= 0 {
			add(b.String(), start, end)
		}
		b.Reset()
		start = -1
	}
	begin := func(i int) {
		if start < 0 {
			start = i
		}
	}
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case within && c == '\\' && i+1 < len(text):
			i++
			b.WriteByte(text[i])
		case within && c == '"':
			within = false
			flush(i + 1)
		case within:
			b.WriteByte(c)
		case c == '"':
			begin(i)
			within = true
		case c == ' ' || c == '\t' || c == '\r':
			flush(i)
		case start < 0: // mostly a word without marks
			end := i
			for end < len(text) && text[end] != ' ' && text[end] != '\t' && text[end] != '\r' && text[end] != '"' {
				end++
			}
			if end == len(text) || text[end] != '"' {
				add(text[i:end], i, end)
			} else {
				begin(i)
				b.WriteString(text[i:end])
			}
			i = end - 1
		default:
			b.WriteByte(c)
		}
	}
	if within {
		b.WriteByte('\n')
	}
	flush(len(text))
}
