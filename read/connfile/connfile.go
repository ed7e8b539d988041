// Package connfile reads the syntax that the dialects of ipsec.conf and ipsec.secrets share: sections that begin at the
// left margin, indented keys with values, inheritance by "also" and "conn %default".
package connfile

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"toril/gateway"
	"toril/read"
	"toril/read/fill"
	"toril/source"
)

// Section is a section as written: "conn name", "config setup", "ca name".
type Section struct {
	Kind, Name string
	At         source.Pos
	Values     []*fill.Value
	also       []*fill.Value
	index      map[string]int  // where a key is in Values
	refs       map[string]bool // the texts of also
}

// File is what one ipsec.conf and the files that it includes say.
type File struct {
	Sections []*Section
	in       *read.Input
	index    map[[2]string]*Section // by kind and name
	said     map[source.Pos]bool    // lines about which a problem was said
}

// problem says what is wrong with a line, once.
func (f *File) problem(at source.Pos, format string, args ...any) {
	if f.said[at] {
		return
	}
	if f.said == nil {
		f.said = map[source.Pos]bool{}
	}
	f.said[at] = true
	f.in.Gateway.Problems = append(f.in.Gateway.Problems, source.Errorf(at, format, args...))
}

// Parse reads a file and what it includes. Sections of one kind and name are one section.
func Parse(in *read.Input) *File {
	f := &File{in: in, index: map[[2]string]*Section{}}
	f.parse(in)
	return f
}

func (f *File) parse(in *read.Input) {
	var s *Section
	for n := 1; n <= in.File.Lines(); n++ {
		at := n
		var line string
		line, n = in.Logical(n)
		text := strings.TrimSpace(cut(line))
		indented := len(line) > 0 && (line[0] == ' ' || line[0] == '\t')
		word, rest, _ := strings.Cut(strings.ReplaceAll(text, "\t", " "), " ")
		rest = strings.TrimSpace(rest)
		switch {
		case text == "":
		case word == "include" && !strings.Contains(word, "="):
			in.Count()
			for _, sub := range in.Include(at, unquote(rest)) {
				f.parse(sub)
			}
		case word == "version" && !strings.Contains(text, "="):
			in.Count()
		case (word == "conn" || word == "config" || word == "ca") && !strings.Contains(word, "=") && rest != "" && !strings.HasPrefix(rest, "="):
			in.Count()
			s = f.section(word, rest, in.At(at))
		case s == nil || !indented && !strings.Contains(text, "="):
			in.Unread(at, "", "it is neither a section nor a setting of one")
		default:
			key, value, ok := strings.Cut(text, "=")
			if !ok {
				in.Unread(at, s.Name, "an equals sign is missing")
				continue
			}
			in.Count()
			s.set(&fill.Value{Key: strings.ToLower(strings.TrimSpace(key)), Text: unquote(strings.TrimSpace(value)), At: in.At(at)})
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

func unquote(s string) string {
	if len(s) > 1 && (s[0] == '"' || s[0] == '\'') && s[len(s)-1] == s[0] {
		return s[1 : len(s)-1]
	}
	return s
}

func (f *File) section(kind, name string, at source.Pos) *Section {
	if s := f.index[[2]string{kind, name}]; s != nil {
		return s
	}
	s := &Section{Kind: kind, Name: name, At: at, index: map[string]int{}, refs: map[string]bool{}}
	f.index[[2]string{kind, name}] = s
	f.Sections = append(f.Sections, s)
	return s
}

func (s *Section) set(v *fill.Value) {
	if v.Key == "also" {
		if !s.refs[v.Text] {
			s.refs[v.Text] = true
			s.also = append(s.also, v)
		}
		return
	}
	if i, said := s.index[v.Key]; said {
		if old := s.Values[i]; old.Text != v.Text {
			v.Was = append(old.Was, old.At)
		}
		s.Values[i] = v
		return
	}
	s.index[v.Key] = len(s.Values)
	s.Values = append(s.Values, v)
}

// maxInherited bounds what "also" may bring into one section.
const maxInherited = 10_000

// Effective returns the values of a section with all that it inherits: its own win, then those of "also", then those of
// the section %default. Where several sections of "also" say a key, the last of them wins if lastAlso is set, else the
// first.
func (f *File) Effective(s *Section, lastAlso bool) []*fill.Value {
	r := resolver{f: f, lastAlso: lastAlso}
	out := r.values(s, nil, false)
	if s.Name != "%default" {
		if d := f.index[[2]string{s.Kind, "%default"}]; d != nil {
			out = lay(out, r.values(d, []*Section{s}, true), false)
		}
	}
	return out
}

type resolver struct {
	f        *File
	lastAlso bool
	count    int
}

func (r *resolver) values(s *Section, trail []*Section, inherited bool) []*fill.Value {
	var out, also []*fill.Value
	for _, v := range s.Values {
		clone := *v
		clone.Inherited = inherited
		out = append(out, &clone)
	}
	r.count += len(out) + 1
	for _, ref := range s.also {
		for name := range strings.FieldsSeq(strings.ReplaceAll(ref.Text, ",", " ")) {
			other := r.f.index[[2]string{s.Kind, name}]
			switch {
			case other == nil:
				continue // said by Declare
			case slices.Contains(trail, other) || other == s:
				r.f.problem(ref.At, "section %q refers to itself", source.Clean(name))
			case r.count > maxInherited:
				r.f.problem(ref.At, "the references between sections give more than %d settings; the rest is not followed", maxInherited)
				return lay(out, also, false)
			default:
				also = lay(also, r.values(other, append(slices.Clip(trail), s), true), r.lastAlso)
			}
		}
	}
	return lay(out, also, false)
}

// lay adds to the values of base those of more whose key base lacks; with over set, those of more win.
func lay(base, more []*fill.Value, over bool) []*fill.Value {
	index := map[string]int{}
	for i, v := range base {
		index[v.Key] = i
	}
	for _, v := range more {
		if i, ok := index[v.Key]; !ok {
			index[v.Key] = len(base)
			base = append(base, v)
		} else if over {
			base[i] = v
		}
	}
	return base
}

// Declare hands over which sections have a name and where it is used. loaded says which are loaded by the daemon, and so
// need no other section to refer to them.
func (f *File) Declare(loaded func(*Section) bool) {
	defs := map[string]*gateway.Definition{}
	for _, s := range f.Sections {
		if s.Kind != "conn" || s.Name == "%default" {
			continue
		}
		d := &gateway.Definition{Kind: "conn", Name: source.Clean(s.Name), At: s.At}
		if loaded(s) {
			d.Used = append(d.Used, s.At)
		}
		defs[s.Name] = d
		f.in.Gateway.Definitions = append(f.in.Gateway.Definitions, d)
	}
	for _, s := range f.Sections {
		for _, ref := range s.also {
			for name := range strings.FieldsSeq(strings.ReplaceAll(ref.Text, ",", " ")) {
				d := defs[name]
				if d == nil {
					d = &gateway.Definition{Kind: "conn", Name: source.Clean(name), Missing: true}
					defs[name] = d
					f.in.Gateway.Definitions = append(f.in.Gateway.Definitions, d)
				}
				d.Used = append(d.Used, ref.At)
			}
		}
	}
}

// Complete reports whether the values of a section name both ends: it is a connection, and no part of others.
func Complete(values []*fill.Value) bool {
	said := func(key string) bool {
		return slices.ContainsFunc(values, func(v *fill.Value) bool { return v.Key == key && v.Text != "" })
	}
	return said("left") && said("right")
}

// Sides returns the prefix of the local and of the remote keywords: right is local where its address is one of the
// gateway's own and left's is not (ipsec.conf(5)).
func Sides(g *gateway.Gateway, values []*fill.Value) (local, remote string) {
	own := func(side string) bool {
		for _, v := range values {
			if v.Key != side {
				continue
			}
			a, err := netip.ParseAddr(v.Text)
			if err != nil {
				return v.Text == "%defaultroute"
			}
			for _, i := range g.Interfaces {
				if slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr() == a }) {
					return true
				}
			}
		}
		return false
	}
	if own("right") && !own("left") {
		return "right", "left"
	}
	return "left", "right"
}

// Secret is one entry of ipsec.secrets: "[who ...] : KIND value".
type Secret struct {
	Who   []string
	Kind  string // in upper case
	Value string
	At    source.Pos
	File  *gateway.File
}

// Secrets reads ipsec.secrets. Every value is hidden from quotes at once.
func Secrets(in *read.Input) []Secret {
	var out []Secret
	for n := 1; n <= in.File.Lines(); n++ {
		line := in.File.Line(n)
		at := n
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		if word, rest, _ := strings.Cut(trimmed, " "); word == "include" {
			in.Count()
			for _, sub := range in.Include(at, unquote(strings.TrimSpace(rest))) {
				out = append(out, Secrets(sub)...)
			}
			continue
		}
		entry := line
		for n < in.File.Lines() { // lines that begin with a blank go on
			next := in.File.Line(n + 1)
			if next == "" || next[0] != ' ' && next[0] != '\t' || strings.HasPrefix(strings.TrimSpace(next), "#") || ownEntry.MatchString(next) {
				break
			}
			n++
			entry += " " + strings.TrimSpace(next)
		}
		s, ok := secret(entry)
		if !ok {
			for k := at; k <= n; k++ {
				in.File.Hide(k, in.File.Line(k)) // whatever it is, it may be a key
			}
			in.Unread(at, "", "an entry is: [who ...] : KIND value")
			continue
		}
		in.Count()
		s.At, s.File = in.At(at), in.File
		for k := at; k <= n; k++ {
			in.File.Hide(k, s.Value)
		}
		out = append(out, s)
	}
	return out
}

// ownEntry is a line that is an entry whatever it begins with.
var ownEntry = regexp.MustCompile(`(^|\s):\s*[A-Za-z0-9]+\s`)

func secret(entry string) (Secret, bool) {
	words := fields(entry)
	for i, w := range words {
		if w != ":" && !strings.HasPrefix(w, ":") || i > 0 && words[i-1] == "" {
			continue
		}
		rest := words[i+1:]
		if w != ":" {
			rest = append([]string{w[1:]}, rest...)
		}
		if len(rest) == 0 {
			return Secret{}, false
		}
		s := Secret{Kind: strings.ToUpper(rest[0])}
		for _, who := range words[:i] {
			s.Who = append(s.Who, unquote(who))
		}
		if len(rest) > 1 {
			s.Value = unquote(strings.Join(rest[1:], " "))
			if len(rest) > 2 && s.Kind == "PSK" {
				s.Value = unquote(rest[1])
			}
		}
		return s, true
	}
	return Secret{}, false
}

// fields splits at blanks outside of quotation marks; a comment ends the list.
func fields(s string) []string {
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
