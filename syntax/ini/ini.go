// Package ini reads the syntax of files with headings in square brackets and keys with values below them: comments on lines of their own,
// and lines that go on behind a backslash (systemd.syntax(7)). It knows no meaning.
package ini

import (
	"bytes"
	"strings"
	"unicode"

	"toril/source"
	"toril/syntax"
)

// File is what a file says.
type File struct {
	Sections []*Section
	Bad      []syntax.Place // what is neither a heading nor a key with a value below one
}

// Section is what stands below one heading. Headings of one name are sections of their own.
type Section struct {
	Name   string
	At     syntax.Place // of the heading
	Values []Value
}

// Value is a key with its value.
type Value struct {
	Key, Text string
	At        syntax.Place
}

// Get returns the value of a key, the first where there are several; "" where there is none.
func (s *Section) Get(key string) string {
	for _, v := range s.Values {
		if v.Key == key {
			return v.Text
		}
	}
	return ""
}

// Parse reads a file. What is bad loses nothing else.
func Parse(data []byte) File {
	var f File
	for at, line := 0, 1; at < len(data); {
		text, comment, start, end, next := statement(data, at)
		here := syntax.Place{Line: line, Range: source.Range{Start: start, End: end}}
		line += bytes.Count(data[at:next], []byte("\n"))
		at = next
		switch {
		case text == "" || comment:
		case text[0] == '[' && strings.HasSuffix(text, "]"):
			f.Sections = append(f.Sections, &Section{Name: text[1 : len(text)-1], At: here})
		default:
			key, value, ok := strings.Cut(text, "=")
			if !ok || len(f.Sections) == 0 {
				f.Bad = append(f.Bad, here)
				continue
			}
			s := f.Sections[len(f.Sections)-1]
			s.Values = append(s.Values, Value{strings.TrimSpace(key), strings.TrimSpace(value), here})
		}
	}
	return f
}

// statement reads from the beginning of a line: the text of that line, with those that it goes on in, its bytes between blanks, and where
// the next one begins. A comment goes on in no other line.
func statement(data []byte, at int) (text string, comment bool, start, end, next int) {
	var b strings.Builder
	start, next = at, at
	for first := true; next < len(data); first = false {
		line := data[next:]
		if i := bytes.IndexByte(line, '\n'); i >= 0 {
			line = line[:i]
		}
		next += len(line)
		if first {
			start += len(line) - len(bytes.TrimLeftFunc(line, unicode.IsSpace))
		}
		end = next
		next = min(next+1, len(data)) // behind the line's end
		line = bytes.TrimRight(line, "\r")
		said := bytes.TrimLeftFunc(line, unicode.IsSpace)
		comment = comment || first && len(said) > 0 && (said[0] == '#' || said[0] == ';')
		if !first {
			line = bytes.TrimLeft(line, " \t")
		}
		if comment || !bytes.HasSuffix(line, []byte("\\")) || next >= len(data) {
			b.Write(line)
			break
		}
		b.Write(line[:len(line)-1])
		b.WriteByte(' ')
	}
	end = max(start, start+len(bytes.TrimRightFunc(data[start:end], unicode.IsSpace)))
	return strings.TrimSpace(b.String()), comment, start, end, next
}
