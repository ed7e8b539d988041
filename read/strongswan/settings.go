// Package strongswan reads what a gateway with the strongSwan daemon saved: swanctl.conf and strongswan.conf.
package strongswan

import (
	"slices"
	"strings"

	"toril/read"
	"toril/read/table"
	"toril/source"
	"toril/syntax"
	"toril/syntax/braces"
)

// section is a section of a settings file: keys with values, subsections, and references to other sections whose
// content it inherits (strongswan.conf(5)).
type section struct {
	name   string
	at     source.Pos
	values []*table.Value
	subs   []*section
	refs   []reference
	places map[string]int // of the values by key, once there are many
	byName map[string]*section
}

type reference struct {
	name string
	at   source.Pos
}

func (s *section) value(key string) *table.Value {
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

// builder makes sections of what a file says; a file that is included goes on in the section of its include statement.
type builder struct {
	in   *read.Input
	open []*section // the outermost first
}

func parse(in *read.Input) *section {
	root := &section{at: in.At(1)}
	into(in, root)
	return root
}

func into(in *read.Input, s *section) {
	b := &builder{in, []*section{s}}
	if in.File.Marked() {
		b.Broken(1, "the file begins with a byte order mark")
	}
	braces.Parse(in.File.Bytes(), b)
}

func (b *builder) section() *section { return b.open[len(b.open)-1] }

// Open begins a section, or goes on with one of that name.
func (b *builder) Open(name string, refs []braces.Reference, at syntax.Place) {
	b.in.Count()
	s := b.section().sub(name)
	if s == nil {
		s = &section{name: name, at: b.in.At(at.Line)}
		b.section().subs = append(b.section().subs, s)
	}
	for _, r := range refs {
		s.refs = append(s.refs, reference{r.Name, b.in.At(r.Line)})
	}
	b.open = append(b.open, s)
}

// Close ends the section that was begun last.
func (b *builder) Close() { b.open = b.open[:len(b.open)-1] }

// Value keeps a key with its value.
func (b *builder) Value(key string, value syntax.Word, at syntax.Place) {
	b.in.Count()
	b.section().set(&table.Value{Key: key, Text: value.Text, At: b.in.Pos(at), Written: value.Range})
}

// Include reads the files that are meant into the section.
func (b *builder) Include(pattern string, at syntax.Place) {
	b.in.Count()
	for _, in := range b.in.Include(b.in.Pos(at), pattern) {
		into(in, b.section())
	}
}

// Broken says that the text breaks the grammar: the daemon's parser then gives up the whole of what it was to load.
func (b *builder) Broken(line int, why string) {
	if e := b.in.Gateway.RefusedOf(b.in.File.Format); e != nil && e.File == b.in.File.Path { // the first is what counts
		return
	}
	b.in.Refuse(b.in.At(line), "%s", why)
}

// Unread keeps a place that was not understood.
func (b *builder) Unread(line int, section, why string) {
	b.in.Unread(b.in.At(line), read.Owner{Name: section}, "%s", why)
}

// TooDeep says where sections nest too deep.
func (b *builder) TooDeep(line int) {
	b.in.Count()
	b.in.Lost(b.in.At(line), "sections nest more than %d deep; the inner ones are not read", braces.MaxDepth)
}

func (s *section) set(v *table.Value) {
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
		return slices.IndexFunc(s.values, func(o *table.Value) bool { return o.Key == key })
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

// maxInherited bounds the work of references to sections that refer to others in turn.
const maxInherited = 200_000

// resolver makes of the sections as written what the daemon sees: references followed.
type resolver struct {
	in   *read.Input
	root *section
	left int
	full bool // the limit was met and reported
	refs map[string]*refUse
	bare bool // no section refers to another: they are as written
}

func newResolver(in *read.Input, root *section) *resolver {
	return &resolver{in: in, root: root, left: maxInherited, refs: map[string]*refUse{}, bare: !root.refers()}
}

// refers reports whether the section, or one in it, refers to others.
func (s *section) refers() bool {
	return len(s.refs) > 0 || slices.ContainsFunc(s.subs, (*section).refers)
}

type refUse struct {
	used    []source.Pos
	missing bool
}

// resolve returns the section with all that it inherits: own values win, then the references from left to right.
func (r *resolver) resolve(s *section, trail []*section) *section {
	if r.bare {
		return s
	}
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
