// Package source knows where things were said: files, lines, quotes of lines, and secrets that must never be quoted.
package source

import (
	"bytes"
	"cmp"
	"fmt"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxQuote is the length in runes beyond which a quoted line is cut.
const MaxQuote = 160

// Mask stands in every output where a secret stood in the input.
const Mask = "[secret]"

// Pos is a place in a saved file. The zero Pos is "nowhere"; Line counts from 1, and 0 means the file as a whole. Col counts
// bytes of the line from 1, and 0 means the line as a whole.
type Pos struct {
	File string
	Line int
	Col  int // of a statement that is not a line; 0 for one that is
	Range
}

// Range is a part of a file: its bytes from Start up to End. The zero value stands for what stands on the line.
type Range struct{ Start, End int }

// RangeOf returns the range of a text that begins at a byte, without the blanks around it.
func RangeOf(text string, start int) Range {
	bare := strings.TrimLeft(text, " \t\r\n")
	start += len(text) - len(bare)
	return Range{start, start + len(strings.TrimRight(bare, " \t\r\n"))}
}

// From returns the range of a part of a text, given by its bytes in that text, where the text begins at a byte of its file.
func (r Range) From(start int) Range { return Range{start + r.Start, start + r.End} }

// Place returns the position without its range.
func (p Pos) Place() Pos {
	p.Range = Range{}
	return p
}

// IsZero reports whether p is nowhere.
func (p Pos) IsZero() bool { return p == Pos{} }

// String returns "file:line:column", "file:line", "file", or "" for nowhere.
func (p Pos) String() string {
	switch {
	case p.Line == 0:
		return Clean(p.File)
	case p.Col > 0:
		return fmt.Sprintf("%s:%d:%d", Clean(p.File), p.Line, p.Col)
	}
	return fmt.Sprintf("%s:%d", Clean(p.File), p.Line)
}

// Compare orders positions by file name, then by line and column.
func (p Pos) Compare(q Pos) int {
	return cmp.Or(strings.Compare(p.File, q.File), cmp.Compare(p.Line, q.Line), cmp.Compare(p.Col, q.Col))
}

// Error is something wrong with the input, and where.
type Error struct {
	Pos
	Message string
	Region  Region // of the place; zero where the text of the file was not at hand
}

// Error returns "file:line: message".
func (e *Error) Error() string {
	if e.Pos.IsZero() {
		return e.Message
	}
	return e.Pos.String() + ": " + e.Message
}

// Errorf makes an Error at p.
func Errorf(p Pos, format string, args ...any) *Error {
	return &Error{Pos: p, Message: fmt.Sprintf(format, args...)}
}

// File is the text of one saved file, with line ends folded, and the secrets that a reader found in it.
type File struct {
	Path      string // as shown to people: relative to the estate, with slashes
	data      []byte
	marked    bool // it began with a byte order mark
	converted bool // see Converted
	starts    []int
	hidden    map[int][]string // secrets, by the line in which they stand
	veiled    map[Pos]bool     // lines and parts of lines that were not understood
	manner    *Manner
}

const byteOrderMark = "\xef\xbb\xbf"

// NewFile makes a File of raw bytes. A byte order mark is dropped; nothing else is changed.
func NewFile(path string, data []byte) *File {
	data, marked := bytes.CutPrefix(data, []byte(byteOrderMark))
	feeds := bytes.Count(data, []byte("\n"))
	f := &File{
		Path:      path,
		data:      data,
		marked:    marked,
		converted: converted(data, feeds),
		starts:    make([]int, 1, 1+feeds),
		hidden:    map[int][]string{},
		veiled:    map[Pos]bool{},
	}
	for at := range feeds {
		start := f.starts[at] + bytes.IndexByte(data[f.starts[at]:], '\n') + 1
		if start == len(data) { // nothing stands behind the last
			break
		}
		f.starts = append(f.starts, start)
	}
	return f
}

// Bytes returns the file's content without a byte order mark. The caller must not change it.
func (f *File) Bytes() []byte { return f.data }

// Marked reports whether the file began with a byte order mark.
func (f *File) Marked() bool { return f.marked }

// Converted reports whether every line ends with a carriage return and a line feed: then the file most likely came through a system
// that ends lines so, and the gateway's own has line feeds only.
func (f *File) Converted() bool { return f.converted }

func converted(data []byte, feeds int) bool {
	return feeds > 0 && bytes.Count(data, []byte("\r\n")) == feeds && bytes.Count(data, []byte("\r")) == feeds
}

// Lines returns the number of lines.
func (f *File) Lines() int {
	if len(f.data) == 0 {
		return 0
	}
	return len(f.starts)
}

// Line returns line n (from 1) without its line end; "" where there is no such line. It may hold secrets: to show it,
// use Quote.
func (f *File) Line(n int) string {
	if n < 1 || n > len(f.starts) {
		return ""
	}
	end := len(f.data)
	if n < len(f.starts) {
		end = f.starts[n]
	}
	return strings.TrimRight(string(f.data[f.starts[n-1]:end]), "\r\n")
}

// Returned reports whether a carriage return stands at the end of line n.
func (f *File) Returned(n int) bool {
	if n < 1 || n > len(f.starts) {
		return false
	}
	end := len(f.data)
	if n < len(f.starts) {
		end = f.starts[n]
	}
	return bytes.HasSuffix(bytes.TrimSuffix(f.data[f.starts[n-1]:end], []byte("\n")), []byte("\r"))
}

// LineAt returns the number of the line that holds the byte at offset.
func (f *File) LineAt(offset int) int {
	return sort.SearchInts(f.starts, offset+1)
}

// Start returns the byte at which line n begins; the end of the file where there is no such line.
func (f *File) Start(n int) int {
	if n < 1 || n > len(f.starts) {
		return len(f.data)
	}
	return f.starts[n-1]
}

// Part returns the position of a statement that is not a line: its bytes from start up to end.
func (f *File) Part(start, end int) Pos {
	line := f.LineAt(start)
	return Pos{File: f.Path, Line: line, Col: start - f.starts[line-1] + 1, Range: Range{start, end}}
}

// Statement returns the position of a statement on line n: its bytes from start up to end.
func (f *File) Statement(n, start, end int) Pos {
	return Pos{File: f.Path, Line: n, Range: Range{start, end}}
}

// Range returns the bytes of the statement at a position: where only its line is known, what stands there between blanks.
func (f *File) Range(p Pos) Range {
	if p.End > 0 || p.Line < 1 || p.Line > len(f.starts) {
		return p.Range
	}
	start, line := f.starts[p.Line-1], f.Line(p.Line)
	left := strings.TrimLeft(line, " \t\r")
	start += len(line) - len(left)
	return Range{start, start + len(strings.TrimRight(left, " \t\r"))}
}

// Region is a place as reports give it, worked out from its bytes. It is zero for a file as a whole.
type Region struct {
	Line, Column int32 // of the first byte, both from 1; the column in bytes
	Character    int32 // the column in characters
	EndLine      int32 // the line of the last byte
	EndCharacter int32 // the column of what stands behind that, in characters
	Offset       int32 // of the first byte in the file as it is stored, with its byte order mark
	Length       int32 // in bytes
}

// Region returns the region of the statement at a position.
func (f *File) Region(p Pos) Region {
	if p.Line == 0 || p.Line > len(f.starts) {
		return Region{}
	}
	r := f.Range(p)
	r.End = min(r.End, len(f.data))
	r.Start = max(0, min(r.Start, r.End))
	line, endLine := f.LineAt(r.Start), f.LineAt(max(r.Start, r.End-1))
	start, endStart := f.starts[line-1], f.starts[endLine-1]
	out := Region{
		Line:         int32(line),
		Column:       int32(r.Start - start + 1),
		Character:    int32(utf8.RuneCount(f.data[start:r.Start]) + 1),
		EndLine:      int32(endLine),
		EndCharacter: int32(utf8.RuneCount(f.data[endStart:r.End]) + 1),
		Offset:       int32(r.Start),
		Length:       int32(r.End - r.Start),
	}
	if f.marked {
		out.Offset += int32(len(byteOrderMark))
	}
	return out
}

// mostText is how much of a statement a quote is made of.
const mostText = 4*MaxQuote + 4096

// text returns the line or the part of it at a position, without blanks around it; a part that spans lines becomes one. What is very long
// is cut.
func (f *File) text(p Pos) (text string, cut bool) {
	if p.Col == 0 || p.End == 0 || p.Start < 0 || p.End > len(f.data) || p.Start > p.End {
		text = strings.TrimSpace(f.Line(p.Line))
		return text[:min(len(text), mostText)], len(text) > mostText
	}
	to := min(p.End, p.Start+mostText)
	return strings.Join(strings.Fields(string(f.data[p.Start:to])), " "), to < p.End
}

// At returns the position of line n of this file.
func (f *File) At(n int) Pos { return Pos{File: f.Path, Line: n} }

// Clean makes a text harmless for a terminal and for a log: control characters, bytes that are not UTF-8 and
// characters that change the direction of writing are shown as escapes; a tab becomes a space.
func Clean(text string) string {
	plain := 0
	for plain < len(text) && text[plain] >= ' ' && text[plain] < 0x7f {
		plain++
	}
	if plain == len(text) {
		return text
	}
	clean := true
	for _, r := range text[plain:] {
		if !harmless(r) {
			clean = false
			break
		}
	}
	if clean && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, "\\x%02x", text[i])
		case r == '\t':
			b.WriteByte(' ')
		case harmless(r):
			b.WriteRune(r)
		case r < 0x80:
			fmt.Fprintf(&b, "\\x%02x", r)
		default:
			fmt.Fprintf(&b, "\\u%04x", r)
		}
		i += size
	}
	return b.String()
}

func harmless(r rune) bool {
	return r == ' ' || unicode.IsGraphic(r) && !unicode.Is(unicode.Cf, r) && !unicode.Is(unicode.Zs, r)
}

// Shorten cuts a text at most runes and says so with an ellipsis.
func Shorten(text string, most int) string {
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:most-1]) + "…"
}

// Head is the part of the file that recognition looks at: enough, and never long.
func (f *File) Head() []byte { return f.data[:min(len(f.data), 64<<10)] }
