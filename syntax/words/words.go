// Package words reads the syntax of files whose statements are words, ended by the line: texts in quotation marks, marks that stand by
// themselves, comments, and lines that go on behind a backslash (iked.conf(5)). It knows no meaning.
package words

import (
	"iter"
	"strings"

	"toril/source"
	"toril/syntax"
)

// Word is a piece of a statement.
type Word struct {
	Text   string
	Quoted bool   // it stands in quotation marks
	Raw    string // between them, as it is written
	syntax.Place
}

// Statement is the words up to a line's end.
type Statement struct {
	Words []Word
	Open  int // the line of a quotation mark that is not closed; 0 for none
}

// Place returns the bytes of the statement.
func (s Statement) Place() syntax.Place {
	return syntax.Over(s.Words[0].Place, s.Words[len(s.Words)-1].Place)
}

// marks are words by themselves.
const marks = "{}=()<>!/,\r"

// Parse returns the statements of a file, those without words left out. A line end ends one, except behind a backslash, which joins lines
// everywhere, comments included, and inside of quotation marks, where it is nothing. Where the file is converted, a carriage return is part
// of the line end behind it.
func Parse(data []byte, converted bool) iter.Seq[Statement] {
	return func(yield func(Statement) bool) {
		s := &scanner{data: data, line: 1, converted: converted}
		for s.at < len(s.data) {
			one := s.statement()
			if (len(one.Words) > 0 || one.Open > 0) && !yield(one) {
				return
			}
		}
	}
}

// Split returns the words of a text that stands for something at a place; all are there.
func Split(text string, at syntax.Place) []Word {
	s := &scanner{data: []byte(text), line: 1}
	out := s.statement().Words
	for i := range out {
		out[i].Place = at
	}
	return out
}

type scanner struct {
	data      []byte
	at        int
	line      int
	converted bool
}

// end returns the length of the line end that begins at a byte; 0 where none does.
func (s *scanner) end(at int) int {
	switch {
	case at < len(s.data) && s.data[at] == '\n':
		return 1
	case s.converted && at+1 < len(s.data) && s.data[at] == '\r' && s.data[at+1] == '\n':
		return 2
	}
	return 0
}

// joined passes over backslashes before line ends.
func (s *scanner) joined() {
	for s.at < len(s.data) && s.data[s.at] == '\\' {
		n := s.end(s.at + 1)
		if n == 0 {
			return
		}
		s.at += 1 + n
		s.line++
	}
}

func (s *scanner) statement() Statement {
	var out Statement
	for s.at < len(s.data) {
		if s.joined(); s.at >= len(s.data) {
			return out
		}
		if n := s.end(s.at); n > 0 {
			s.at += n
			s.line++
			return out
		}
		switch c := s.data[s.at]; {
		case c == ' ' || c == '\t':
			s.at++
		case c == '#':
			for s.at < len(s.data) && s.end(s.at) == 0 {
				s.at++
				s.joined()
			}
		case c == '"' || c == '\'':
			w, open := s.text(c)
			if open && out.Open == 0 {
				out.Open = w.Line
			}
			out.Words = append(out.Words, w)
		case strings.IndexByte(marks, c) >= 0:
			out.Words = append(out.Words, Word{Text: string(c), Place: s.place(s.at, s.at+1, s.line)})
			s.at++
		default:
			out.Words = append(out.Words, s.word())
		}
	}
	return out
}

func (s *scanner) place(start, end, line int) syntax.Place {
	return syntax.Place{Line: line, Range: source.Range{Start: start, End: end}}
}

// word reads up to a blank, a mark or a comment.
func (s *scanner) word() Word {
	start, end, line := s.at, s.at, s.line
	var b strings.Builder
	for s.at < len(s.data) && strings.IndexByte(" \t\n#\"'"+marks, s.data[s.at]) < 0 {
		b.WriteByte(s.data[s.at])
		s.at++
		end = s.at
		s.joined()
	}
	return Word{Text: b.String(), Place: s.place(start, end, line)}
}

// text reads what stands between quotation marks.
func (s *scanner) text(mark byte) (w Word, open bool) {
	start, line := s.at, s.line
	var b strings.Builder
	for s.at++; s.at < len(s.data) && s.data[s.at] != mark; s.at++ {
		switch c := s.data[s.at]; {
		case s.end(s.at) > 0:
			s.at += s.end(s.at) - 1
			s.line++
		case c == '\\' && s.at+1 < len(s.data) && (s.data[s.at+1] == mark || s.data[s.at+1] == ' ' || s.data[s.at+1] == '\t'):
			s.at++
			b.WriteByte(s.data[s.at])
		case c == '\\' && s.end(s.at+1) > 0:
			s.at += s.end(s.at + 1)
			s.line++
		default:
			b.WriteByte(c)
		}
	}
	open = s.at >= len(s.data)
	raw := string(s.data[min(start+1, s.at):s.at])
	s.at = min(s.at+1, len(s.data))
	return Word{b.String(), true, raw, s.place(start, s.at, line)}, open
}
