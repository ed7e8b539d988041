// Package braces reads the syntax of files with sections in braces, "name { key = value }": comments, quotation marks, references between
// sections, includes (strongswan.conf(5)). It knows no meaning.
package braces

import (
	"bytes"
	"fmt"
	"strings"

	"toril/source"
	"toril/syntax"
)

// MaxDepth is how deep sections nest; what is deeper is passed over.
const MaxDepth = 64

// Reference is the name of a section that another one refers to, with its line.
type Reference struct {
	Name string
	Line int
}

// Handler is told of every statement, in the order of the file.
type Handler interface {
	Open(name string, refs []Reference, at syntax.Place) // its range ends behind the opening brace
	Close()
	Value(key string, value syntax.Word, at syntax.Place) // the value's range is zero where its bytes are not its text
	Include(pattern string, at syntax.Place)
	Broken(line int, why string)          // the grammar is broken there: a program takes nothing of the file
	Unread(line int, section, why string) // something there was passed over
	TooDeep(line int)                     // and there a section that is too deep
}

// Parse tells a handler of every statement of a file. Nothing stops it: behind what is broken it goes on at the next line.
func Parse(data []byte, h Handler) {
	p := &parser{h: h, data: data, line: 1}
	if end := bytes.IndexByte(p.data, 0); end >= 0 { // there it ends for the daemon
		p.data = p.data[:end]
		h.Unread(1+bytes.Count(data[:end], []byte("\n")), "", "whatever stands behind a zero byte")
	}
	for !p.section("", 0, true) { // a brace too many does not end the file
		h.Broken(p.line, "a closing brace has no opening one")
	}
}

type parser struct {
	h     Handler
	data  []byte
	at    int
	line  int
	depth int
}

func (p *parser) peek() byte {
	if p.at < len(p.data) {
		return p.data[p.at]
	}
	return 0
}

func (p *parser) step() {
	if p.data[p.at] == '\n' {
		p.line++
	}
	p.at++
}

// space passes over blanks, line ends and comments.
func (p *parser) space() {
	for p.at < len(p.data) {
		switch c := p.data[p.at]; {
		case c == '#':
			for p.at < len(p.data) && p.data[p.at] != '\n' && p.data[p.at] != '\r' {
				p.at++
			}
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			p.step()
		default:
			return
		}
	}
}

func (p *parser) blanks() {
	for p.at < len(p.data) && (p.data[p.at] == ' ' || p.data[p.at] == '\t' || p.data[p.at] == '\r') {
		p.at++
	}
}

// The characters that end a name, a pattern of files, and a piece of a value.
var (
	endsName    = set(func(c byte) bool { return c <= ' ' || strings.IndexByte(`,:{}="#`, c) >= 0 })
	endsPattern = set(func(c byte) bool { return strings.IndexByte(" \t\r\n#}", c) >= 0 })
	endsPiece   = set(func(c byte) bool { return strings.IndexByte("\n#}\"", c) >= 0 })
)

func set(has func(c byte) bool) (of [256]bool) {
	for c := range of {
		of[c] = has(byte(c))
	}
	return of
}

// until takes what stands before a character of a set.
func (p *parser) until(ends *[256]bool) []byte {
	start := p.at
	for p.at < len(p.data) && !ends[p.data[p.at]] {
		p.at++
	}
	return p.data[start:p.at]
}

func (p *parser) name() string {
	if p.peek() == '"' {
		return p.quoted()
	}
	return string(p.until(&endsName))
}

// section reads until the section's closing brace (false) or the end of the file (true).
func (p *parser) section(name string, opened int, outermost bool) bool {
	for {
		p.space()
		if p.at >= len(p.data) {
			if !outermost {
				last := min(p.line, p.lines())
				p.h.Broken(
					last,
					fmt.Sprintf("section %s, opened at line %d, is not closed: the file ends here", source.Clean(name), opened),
				)
				p.h.Unread(last, "", "whatever stood behind the end of the file")
			}
			return true
		}
		if p.peek() == '}' {
			p.at++
			return false
		}
		line, start := p.line, p.at
		quoted := p.peek() == '"'
		word := p.name()
		if quoted || strings.Contains(word, ".") {
			p.h.Broken(line, fmt.Sprintf("the name %q is in quotation marks or has a dot", source.Clean(word)))
		}
		if word == "" {
			p.skipLine(line, name, "a name was expected")
			continue
		}
		p.blanks()
		switch c := p.peek(); {
		case word == "include" && c != '=' && c != '{' && c != ':':
			pattern := p.includePattern()
			p.h.Include(pattern, p.place(line, start))
		case c == '=':
			p.at++
			value := p.value()
			p.h.Value(word, value, p.place(line, start))
		case c == '{' || c == ':' || c == '\n':
			if p.open(name, word, line, start) {
				return true
			}
		default:
			p.skipLine(line, name, "neither a value nor a section follows the name")
		}
	}
}

// open reads "name [: references] {" and the section behind it; it returns true at the end of the file.
func (p *parser) open(within, name string, line, start int) bool {
	var refs []Reference
	if p.peek() == ':' {
		p.at++
		for {
			p.space()
			refs = append(refs, Reference{p.name(), p.line})
			p.space()
			if p.peek() != ',' {
				break
			}
			p.at++
		}
	}
	p.space()
	if p.peek() != '{' {
		p.h.Broken(line, fmt.Sprintf("neither a value nor a section follows the name %q", source.Clean(name)))
		p.h.Unread(line, within, "neither a value nor a section follows the name")
		return false
	}
	p.at++
	if p.depth >= MaxDepth {
		p.h.TooDeep(line)
		return p.skipBlock()
	}
	p.h.Open(name, refs, p.place(line, start))
	p.depth++
	end := p.section(name, line, false)
	p.depth--
	p.h.Close()
	return end
}

// skipBlock passes over a section without reading it.
func (p *parser) skipBlock() bool {
	for depth := 1; depth > 0; {
		p.space()
		if p.at >= len(p.data) {
			return true
		}
		switch p.peek() {
		case '{':
			depth++
		case '}':
			depth--
		case '"':
			p.quoted()
			continue
		}
		p.step()
	}
	return false
}

// skipLine passes over what is left of a line that was not understood.
func (p *parser) skipLine(line int, section, why string) {
	p.h.Broken(line, why)
	p.h.Unread(line, section, why)
	start := p.at
	for p.at < len(p.data) && p.data[p.at] != '\n' && (p.data[p.at] != '}' || p.at == start) {
		p.at++
	}
}

func (p *parser) includePattern() string {
	if p.peek() == '"' {
		return p.quoted()
	}
	return string(p.until(&endsPattern))
}

// value reads a value up to the end of the line, a comment or a closing brace. Quoted parts may hold all of these.
func (p *parser) value() syntax.Word {
	pieces := make([]string, 0, 4) // mostly it is one
	var at source.Range
	for {
		p.blanks()
		piece, start := "", p.at
		switch c := p.peek(); {
		case c == 0 || c == '\n' || c == '#' || c == '}':
			if len(pieces) != 1 || string(p.data[at.Start:at.End]) != pieces[0] {
				at = source.Range{}
			}
			return syntax.Word{Text: strings.Join(pieces, " "), Range: at}
		case c == '"':
			piece = p.quoted()
			at = source.Range{Start: start + 1, End: max(start+1, p.at-1)}
		default:
			piece = string(bytes.TrimRight(p.until(&endsPiece), " \t\r"))
			at = source.Range{Start: start, End: start + len(piece)}
		}
		if piece != "" || len(pieces) > 0 {
			pieces = append(pieces, piece)
		}
	}
}

// place returns where a statement stands that began at start: its range ends before the blanks behind it.
func (p *parser) place(line, start int) syntax.Place {
	return syntax.Place{Line: line, Range: source.Range{Start: start, End: start + len(bytes.TrimRight(p.data[start:p.at], " \t\r"))}}
}

// lines returns the number of lines.
func (p *parser) lines() int {
	n := bytes.Count(p.data, []byte("\n"))
	if len(p.data) > 0 && p.data[len(p.data)-1] != '\n' {
		n++
	}
	return n
}

func (p *parser) quoted() string {
	var out strings.Builder
	line := p.line
	for p.at++; p.at < len(p.data); p.step() {
		switch c := p.data[p.at]; c {
		case '"':
			p.at++
			return out.String()
		case '\\':
			if p.at+1 < len(p.data) {
				p.step()
				switch e := p.data[p.at]; e {
				case 'n':
					out.WriteByte('\n')
				case 'r':
					out.WriteByte('\r')
				case 't':
					out.WriteByte('\t')
				case '\n':
				default:
					out.WriteByte(e)
				}
			}
		default:
			out.WriteByte(c)
		}
	}
	p.h.Broken(line, "a quotation mark opened here is not closed")
	return out.String()
}
