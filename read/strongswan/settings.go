// Package strongswan reads what a gateway with the strongSwan daemon saved: swanctl.conf and strongswan.conf.
package strongswan

import (
	"bytes"
	"slices"
	"strings"

	"toril/read"
	"toril/read/fill"
	"toril/source"
)

// section is a section of a settings file: keys with values, subsections, and references to other sections whose
// content it inherits (strongswan.conf(5)).
type section struct {
	name   string
	at     source.Pos
	values []*fill.Value
	subs   []*section
	refs   []reference
	places map[string]int // of the values by key, once there are many
	byName map[string]*section
}

type reference struct {
	name string
	at   source.Pos
}

func (s *section) value(key string) *fill.Value {
	for _, v := range s.values {
		if v.Key == key {
			return v
		}
	}
	return nil
}

func (s *section) sub(name string) *section {
	const many = 32
	if len(s.subs) < many {
		for _, sub := range s.subs {
			if sub.name == name {
				return sub
			}
		}
		return nil
	}
	if len(s.byName) != len(s.subs) {
		if s.byName == nil {
			s.byName = map[string]*section{}
		}
		for _, sub := range s.subs[len(s.byName):] {
			s.byName[sub.name] = sub
		}
	}
	return s.byName[name]
}

// parser reads settings into a section; a file that is included goes on in the section of its include statement.
type parser struct {
	in    *read.Input
	data  []byte
	at    int
	line  int
	depth int
}

func parse(in *read.Input) *section {
	root := &section{at: in.At(1)}
	into(in, root)
	return root
}

func into(in *read.Input, s *section) {
	p := &parser{in: in, data: in.File.Bytes(), line: 1}
	if in.File.Marked() {
		p.broken(1, "the file begins with a byte order mark")
	}
	if end := bytes.IndexByte(p.data, 0); end >= 0 { // there it ends for the daemon
		p.data = p.data[:end]
		in.Unread(in.File.LineAt(end), "", "whatever stands behind a zero byte")
	}
	for !p.section(s, true) { // a brace too many does not end the file
		p.broken(p.line, "a closing brace has no opening one")
	}
}

// broken says that the text breaks the grammar: the daemon's parser then gives up the whole of what it was to load.
func (p *parser) broken(line int, format string, args ...any) {
	if e := p.in.Gateway.RefusedOf(p.in.File.Format); e != nil && e.File == p.in.File.Path { // the first is what counts
		return
	}
	p.in.Refuse(line, format, args...)
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

func isName(c byte) bool { return c > ' ' && !strings.ContainsRune(`,:{}="#`, rune(c)) }

func (p *parser) name() string {
	if p.peek() == '"' {
		return p.quoted()
	}
	start := p.at
	for p.at < len(p.data) && isName(p.data[p.at]) {
		p.at++
	}
	return string(p.data[start:p.at])
}

// section reads until the section's closing brace (false) or the end of the file (true).
func (p *parser) section(s *section, outermost bool) bool {
	for {
		p.space()
		if p.at >= len(p.data) {
			if !outermost {
				last := min(p.line, p.in.File.Lines())
				p.broken(last, "section %s, opened at line %d, is not closed: the file ends here", source.Clean(s.name), s.at.Line)
				p.in.Unread(last, "", "whatever stood behind the end of the file")
			}
			return true
		}
		if p.peek() == '}' {
			p.at++
			return false
		}
		line, start := p.line, p.at
		quoted := p.peek() == '"'
		name := p.name()
		if quoted || strings.Contains(name, ".") {
			p.broken(line, "the name %q is in quotation marks or has a dot", source.Clean(name))
		}
		if name == "" {
			p.skipLine(line, s, "a name was expected")
			continue
		}
		p.blanks()
		switch c := p.peek(); {
		case name == "include" && c != '=' && c != '{' && c != ':':
			p.in.Count()
			for _, in := range p.in.Include(line, p.includePattern()) {
				into(in, s)
			}
		case c == '=':
			p.at++
			p.in.Count()
			text := p.valueText()
			s.set(&fill.Value{Key: name, Text: text, At: p.in.Statement(line, start, p.end(start))})
		case c == '{' || c == ':' || c == '\n':
			if p.open(s, name, line) {
				return true
			}
		default:
			p.skipLine(line, s, "neither a value nor a section follows the name")
		}
	}
}

// open reads "name [: references] {" and the section behind it; it returns true at the end of the file.
func (p *parser) open(s *section, name string, line int) bool {
	var refs []reference
	if p.peek() == ':' {
		p.at++
		for {
			p.space()
			refs = append(refs, reference{p.name(), p.in.At(p.line)})
			p.space()
			if p.peek() != ',' {
				break
			}
			p.at++
		}
	}
	p.space()
	if p.peek() != '{' {
		p.broken(line, "neither a value nor a section follows the name %q", source.Clean(name))
		p.in.Unread(line, s.name, "neither a value nor a section follows the name")
		return false
	}
	p.at++
	p.in.Count()
	if p.depth >= read.MaxDepth {
		p.in.Problemf(line, "sections nest more than %d deep; the inner ones are not read", read.MaxDepth)
		return p.skipBlock()
	}
	sub := s.sub(name)
	if sub == nil {
		sub = &section{name: name, at: p.in.At(line)}
		s.subs = append(s.subs, sub)
	}
	sub.refs = append(sub.refs, refs...)
	p.depth++
	end := p.section(sub, false)
	p.depth--
	return end
}

func (s *section) set(v *fill.Value) {
	if i := s.place(v.Key); i >= 0 {
		if old := s.values[i]; old.Text != v.Text {
			v.Was = append(old.Was, old.At)
		}
		s.values[i] = v
		return
	}
	s.values = append(s.values, v)
	if s.places != nil {
		s.places[v.Key] = len(s.values) - 1
	}
}

// place returns where the value of a key stands; -1 for none.
func (s *section) place(key string) int {
	const many = 32
	if len(s.values) < many {
		return slices.IndexFunc(s.values, func(o *fill.Value) bool { return o.Key == key })
	}
	if s.places == nil {
		s.places = map[string]int{}
		for i, o := range s.values {
			s.places[o.Key] = i
		}
	}
	if i, ok := s.places[key]; ok {
		return i
	}
	return -1
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

func (p *parser) skipLine(line int, s *section, why string) {
	p.broken(line, "%s", why)
	p.in.Unread(line, s.name, "%s", why)
	start := p.at
	for p.at < len(p.data) && p.data[p.at] != '\n' && (p.data[p.at] != '}' || p.at == start) {
		p.at++
	}
}

func (p *parser) includePattern() string {
	if p.peek() == '"' {
		return p.quoted()
	}
	start := p.at
	for p.at < len(p.data) && !strings.ContainsRune(" \t\r\n#}", rune(p.data[p.at])) {
		p.at++
	}
	return string(p.data[start:p.at])
}

// valueText reads a value up to the end of the line, a comment or a closing brace. Quoted parts may hold all of these.
func (p *parser) valueText() string {
	var out strings.Builder
	for {
		p.blanks()
		switch c := p.peek(); {
		case c == 0 || c == '\n' || c == '#' || c == '}':
			return out.String()
		case c == '"':
			if out.Len() > 0 {
				out.WriteByte(' ')
			}
			out.WriteString(p.quoted())
		default:
			start := p.at
			for p.at < len(p.data) && !strings.ContainsRune("\n#}\"", rune(p.data[p.at])) {
				p.at++
			}
			if out.Len() > 0 {
				out.WriteByte(' ')
			}
			out.WriteString(strings.TrimRight(string(p.data[start:p.at]), " \t\r"))
		}
	}
}

// end returns where the statement that began at start ends: before the blanks that stand behind it.
func (p *parser) end(start int) int {
	return start + len(bytes.TrimRight(p.data[start:p.at], " \t\r"))
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
	p.broken(line, "a quotation mark opened here is not closed")
	return out.String()
}

// maxInherited bounds the work of references to sections that refer to others in turn.
const maxInherited = 200_000

// resolver makes of the sections as written what the daemon sees: references followed.
type resolver struct {
	in   *read.Input
	root *section
	left int
	full bool // the limit was met and reported
	refs map[string]*refUse
}

type refUse struct {
	used    []source.Pos
	missing bool
}

// resolve returns the section with all that it inherits: own values win, then the references from left to right.
func (r *resolver) resolve(s *section, trail []*section) *section {
	out := &section{name: s.name, at: s.at}
	for _, v := range s.values {
		clone := *v
		out.values = append(out.values, &clone)
	}
	for _, sub := range s.subs {
		out.subs = append(out.subs, r.resolve(sub, trail))
	}
	r.left -= 1 + len(s.values)
	for _, ref := range s.refs {
		use := r.refs[ref.name]
		if use == nil {
			use = &refUse{}
			r.refs[ref.name] = use
		}
		if !slices.Contains(use.used, ref.at) {
			use.used = append(use.used, ref.at)
		}
		from := r.lookup(ref.name)
		switch {
		case from == nil:
			use.missing = true
		case slices.Contains(trail, from) || len(trail) > read.MaxDepth:
			r.report(ref.at, "section %q refers to itself", ref.name)
		case r.left <= 0:
			r.report(ref.at, "the references between sections give more than %d settings; the rest is not followed", maxInherited)
		default:
			inherit(out, r.resolve(from, append(trail, from)))
		}
	}
	return out
}

func (r *resolver) report(at source.Pos, format string, args ...any) {
	if !r.full {
		r.full = true
		r.in.Gateway.Problems = append(r.in.Gateway.Problems, source.Errorf(at, format, args...))
	}
}

func (r *resolver) lookup(name string) *section {
	s := r.root
	for part := range strings.SplitSeq(name, ".") {
		if s = s.sub(part); s == nil {
			return nil
		}
	}
	return s
}

func inherit(into, from *section) {
	for _, v := range from.values {
		if into.value(v.Key) == nil {
			v.Inherited = true
			into.values = append(into.values, v)
		}
	}
	for _, sub := range from.subs {
		if own := into.sub(sub.name); own != nil {
			inherit(own, sub)
		} else {
			markInherited(sub)
			into.subs = append(into.subs, sub)
		}
	}
}

func markInherited(s *section) {
	for _, v := range s.values {
		v.Inherited = true
	}
	for _, sub := range s.subs {
		markInherited(sub)
	}
}
