// Package ipsecconf reads the syntax that the dialects of ipsec.conf and ipsec.secrets share: sections that begin at the
// left margin, indented keys with values, inheritance by "also" and "conn %default".
package ipsecconf

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/read/table"
	"toril/source"
	"toril/syntax/sections"
)

// Section is a section as written: "conn name", "config setup", "ca name".
type Section struct {
	Kind, Name string
	At         source.Pos
	Values     []*table.Value
	Twice      *table.Value // a key that stands twice, where that is a mistake
	also       []*table.Value
	index      map[string]int  // where a key is in Values
	refs       map[string]bool // the texts of also
	doubts     model.Doubts    // what of it was not understood
}

// File is what one ipsec.conf and the files that it includes say.
type File struct {
	Sections  []*Section
	in        *read.Input
	dialect   Dialect
	inherited map[[2]string]bool     // kinds and names of sections that others inherit from; nil before that is asked
	index     map[[2]string]*Section // by kind and name
	said      map[source.Pos]bool    // lines about which a problem was said
}

// problem says what is wrong with a line, once.
func (f *File) problem(at source.Pos, format string, args ...any) {
	if f.said[at.Place()] {
		return
	}
	if f.said == nil {
		f.said = map[source.Pos]bool{}
	}
	f.said[at.Place()] = true
	f.in.Gateway.Problems = append(f.in.Gateway.Problems, source.Errorf(at, format, args...))
}

// Dialect is how one of the daemons that have such a file takes it apart, as they were asked (lab/formats).
type Dialect struct {
	FoldKeys   bool // keys in capitals are the same
	OneWord    bool // a value without quotation marks is one word; braces quote too, and a mark that is not closed is none
	Authority  bool // there are sections "ca"
	OnceOnly   bool // a connection with a key twice is not loaded
	MissingBad bool // a reference to a section that is not there, or in a circle, is a mistake of the whole file
}

// Parse reads a file and what it includes. Sections of one kind and name are one section. For a mistake of its grammar the daemon
// takes nothing of it: that is said, and what can be understood all the same is read.
func Parse(in *read.Input, d Dialect) *File {
	f := &File{in: in, dialect: d, index: map[[2]string]*Section{}}
	f.parse(in)
	return f
}

// refuse says that the daemon takes nothing of the file, once.
func (f *File) refuse(in *read.Input, line int, format string, args ...any) {
	if in.Gateway.RefusedOf(in.File.Format) == nil {
		in.Refuse(in.At(line), format, args...)
	}
}

func (f *File) parse(in *read.Input) {
	if in.File.Marked() {
		f.refuse(in, 1, "the file begins with a byte order mark")
	}
	var s *Section
	for l := range sections.Parse(in.File.Bytes()) {
		strange := !in.File.Converted()
		if l.Text == "" {
			if l.Return && !l.Comment && strange { // what stands there is no blank
				f.refuse(in, l.Line, "a carriage return stands here")
			}
			continue
		}
		if l.Within && strange {
			f.refuse(in, l.Line, "a carriage return stands here")
		}
		word, rest := l.Head()
		opens := word == "conn" || word == "config" || word == "ca" && f.dialect.Authority
		switch {
		case word == "include" && rest != "" && !strings.HasPrefix(rest, "="):
			in.Count()
			if l.Indented && f.dialect.OneWord {
				f.refuse(in, l.Line, "%q stands inside a section", word)
			}
			for _, sub := range in.Include(in.Pos(l.Place), unquote(rest)) {
				f.parse(sub)
			}
		case word == "version" && !strings.Contains(l.Text, "="):
			in.Count()
		case !l.Indented && opens:
			in.Count()
			name := unquote(rest)
			if name == "" || strings.Contains(name, " ") && name == rest {
				in.Unread(in.Pos(l.Place), read.Owner{}, "a section has one name")
				f.refuse(in, l.Line, "a section has one name")
			}
			s = f.section(word, name, in.At(l.Line))
		case !l.Indented:
			in.Unread(in.Pos(l.Place), read.Owner{}, "it is neither a section nor a setting of one")
			f.refuse(in, l.Line, "at the margin stand %q and the like, and no %q", "conn", word)
		case s == nil:
			in.Unread(in.Pos(l.Place), read.Owner{}, "it stands outside every section")
			if f.dialect.OneWord || opens {
				f.refuse(in, l.Line, "it stands outside every section")
			}
		default:
			f.setting(in, l, s)
		}
	}
}

// setting reads "key=value".
func (f *File) setting(in *read.Input, l sections.Line, s *Section) {
	key, value, ok := l.Setting()
	if !ok {
		in.Unread(in.Pos(l.Place), read.Owner{Name: s.Name, To: &s.doubts}, "an equals sign is missing")
		f.refuse(in, l.Line, "a setting is a keyword, an equals sign and a value")
		return
	}
	in.Count()
	if why := f.dialect.odd(value); why != "" {
		in.Unread(in.Pos(l.Place), read.Owner{Name: s.Name, To: &s.doubts}, "%s", why)
		f.refuse(in, l.Line, "%s", why)
	}
	if f.dialect.FoldKeys {
		key = strings.ToLower(key)
	}
	written := source.Range{Start: l.End - len(value), End: l.End}
	if f.dialect.OneWord && len(value) > 1 && value[0] == '{' && value[len(value)-1] == '}' {
		value = value[1 : len(value)-1]
		written = source.Range{Start: written.Start + 1, End: written.End - 1}
	}
	text := unquote(value)
	if text != value {
		written = source.Range{Start: written.Start + 1, End: written.End - 1}
	}
	returned := l.Return && !l.Comment && !in.File.Converted()
	s.set(&table.Value{Key: key, Text: text, At: in.Pos(l.Place), Written: written, Returned: returned})
}

// odd returns why a value breaks the daemon's grammar; "" where it does not.
func (d Dialect) odd(value string) string {
	quoted := len(value) > 0 && value[0] == '"'
	bare := value
	if quoted {
		end := strings.IndexByte(value[1:], '"')
		switch {
		case end < 0 && d.OneWord:
			return "" // the mark is taken as part of the value
		case end < 0:
			return "a quotation mark is not closed"
		}
		bare = value[end+2:]
	}
	switch {
	case d.OneWord && strings.HasPrefix(value, "{") && strings.HasSuffix(value, "}"):
	case d.OneWord && strings.ContainsAny(bare, " \t"):
		return "a value with blanks has quotation marks around it"
	case !d.OneWord && strings.Contains(bare, "="):
		return "a value with an equals sign has quotation marks around it"
	case !d.OneWord && strings.Count(bare, `"`)%2 == 1:
		return "a quotation mark is not closed"
	}
	return ""
}

func unquote(s string) string {
	if len(s) > 1 && s[0] == '"' && s[len(s)-1] == '"' {
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

func (s *Section) set(v *table.Value) {
	if v.Key == "also" {
		if !s.refs[v.Text] {
			s.refs[v.Text] = true
			s.also = append(s.also, v)
		}
		return
	}
	if i, said := s.index[v.Key]; said {
		if s.Twice == nil {
			s.Twice = v
		}
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
func (f *File) Effective(s *Section, lastAlso bool) []*table.Value {
	r := resolver{f: f, lastAlso: lastAlso}
	out := r.values(s, nil, false)
	if s.Name != "%default" {
		if d := f.index[[2]string{s.Kind, "%default"}]; d != nil {
			out = lay(out, r.values(d, []*Section{s}, true), false)
		}
	}
	return out
}

// Inherited reports whether another section inherits from one.
func (f *File) Inherited(s *Section) bool {
	if f.inherited == nil {
		f.inherited = map[[2]string]bool{}
		for _, o := range f.Sections {
			for _, ref := range o.also {
				for _, name := range strings.FieldsFunc(ref.Text, func(r rune) bool { return r == ',' || unicode.IsSpace(r) }) {
					f.inherited[[2]string{o.Kind, name}] = true
				}
			}
		}
	}
	return f.inherited[[2]string{s.Kind, s.Name}]
}

// Doubts are what was not understood of a section, or of those that it inherits from.
func (f *File) Doubts(s *Section) model.Doubts {
	var out model.Doubts
	seen := map[*Section]bool{}
	var visit func(s *Section)
	visit = func(s *Section) {
		if s == nil || seen[s] {
			return
		}
		seen[s] = true
		out.Add(s.doubts...)
		for _, ref := range s.also {
			for name := range strings.FieldsSeq(strings.ReplaceAll(ref.Text, ",", " ")) {
				visit(f.index[[2]string{s.Kind, name}])
			}
		}
	}
	visit(s)
	visit(f.index[[2]string{s.Kind, "%default"}])
	return out
}

type resolver struct {
	f        *File
	lastAlso bool
	count    int
}

func (r *resolver) values(s *Section, trail []*Section, inherited bool) []*table.Value {
	var out, also []*table.Value
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

// Broken returns why the daemon does not load a section, or, with MissingBad, anything: a key that stands twice, a reference to a section
// that is not there or in a circle; nil where it does.
func (f *File) Broken(s *Section) *source.Error {
	if f.dialect.OnceOnly && s.Twice != nil {
		return source.Errorf(s.Twice.At, "the keyword %s stands twice", source.Clean(s.Twice.Key))
	}
	state := map[*Section]int{}
	var visit func(s *Section) *source.Error
	visit = func(s *Section) *source.Error {
		state[s] = 1
		for _, ref := range s.also {
			for name := range strings.FieldsSeq(strings.ReplaceAll(ref.Text, ",", " ")) {
				switch other := f.index[[2]string{s.Kind, name}]; {
				case other == nil:
					return source.Errorf(ref.At, "section %s, which it refers to, is not there", source.Clean(name))
				case state[other] == 1:
					return source.Errorf(ref.At, "section %s refers to itself", source.Clean(name))
				case state[other] == 0:
					if err := visit(other); err != nil {
						return err
					}
				}
			}
		}
		state[s] = 2
		return nil
	}
	return visit(s)
}

// Mistaken says of the first broken section that the daemon takes nothing of the file, where that is so.
func (f *File) Mistaken() {
	if !f.dialect.MissingBad {
		return
	}
	for _, s := range f.Sections {
		if e := f.Broken(s); e != nil {
			f.refuseAt(e)
			return
		}
	}
}

// refuseAt says that the daemon takes nothing of the file for a mistake that is known already.
func (f *File) refuseAt(e *source.Error) {
	if f.in.Gateway.RefusedOf(f.in.File.Format) == nil {
		f.in.Gateway.Refused = append(
			f.in.Gateway.Refused,
			model.Refusal{Error: e, Format: f.in.File.Format, What: "nothing of " + f.in.File.Format},
		)
		f.in.Gateway.Problems = append(f.in.Gateway.Problems, e)
	}
}

// Words is what a keyword may be set to: every word of Any, or what Check takes.
type Words struct {
	Any  []string
	Fold bool // capitals are the same
}

// takes reports whether a keyword may be set to a text.
func (w Words) takes(text string) bool {
	if w.Fold {
		text = strings.ToLower(text)
	}
	return slices.Contains(w.Any, text)
}

// Check looks at every setting of sections of a kind: those of keywords with words that may be none of these, and keywords that are not
// known, make the daemon take nothing of the file. A nil known skips that.
func (f *File) Check(kind string, words map[string]Words, known func(key string) bool) {
	for _, s := range f.Sections {
		if s.Kind != kind {
			continue
		}
		for _, v := range s.Values {
			key := v.Key
			switch w, ok := words[key]; {
			case ok && v.Text != "" && (v.Returned || !w.takes(v.Text)):
				f.refuseAt(source.Errorf(v.At, "%s", f.veiled(v, "%q is not a value of %s", source.Clean(v.Text), source.Clean(key))))
			case known != nil && !known(key):
				f.refuseAt(source.Errorf(v.At, "%s", f.veiled(v, "%q is not a keyword of the daemon", source.Clean(key))))
			}
		}
	}
}

func (f *File) veiled(v *table.Value, format string, args ...any) string {
	for _, file := range f.in.Gateway.Files {
		if file.Path == v.At.File {
			file.Veil(v.At)
			return file.Veiled(v.At, fmt.Sprintf(format, args...))
		}
	}
	return fmt.Sprintf(format, args...)
}

// lay adds to the values of base those of more whose key base lacks; with over set, those of more win.
func lay(base, more []*table.Value, over bool) []*table.Value {
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

// Rest keeps the settings unread of sections of a kind whose keywords are none of those known, where the daemon passes over them.
func (f *File) Rest(kind string, known func(key string) bool, of read.Owner) {
	for _, s := range f.Sections {
		for _, v := range s.Values {
			if s.Kind == kind && v.Text != "" && !known(v.Key) {
				f.in.Leave(f.in.FileOf(v.At.File), v.At, of, model.NotRead,
					f.veiled(v, "%q is not a known keyword of %s", source.Clean(v.Key), source.Clean(kind)))
			}
		}
	}
}

// Declare hands over which sections have a name and where it is used. loaded says which are loaded by the daemon, and so
// need no other section to refer to them.
func (f *File) Declare(loaded func(*Section) bool) {
	defs := map[string]*model.Definition{}
	for _, s := range f.Sections {
		if s.Kind != "conn" || s.Name == "%default" {
			continue
		}
		d := &model.Definition{Kind: "conn", Name: source.Clean(s.Name), At: s.At}
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
					d = &model.Definition{Kind: "conn", Name: source.Clean(name), Missing: true}
					defs[name] = d
					f.in.Gateway.Definitions = append(f.in.Gateway.Definitions, d)
				}
				d.Used = append(d.Used, ref.At)
			}
		}
	}
}

// Says reports whether some of the values are of a keyword.
func Says(values []*table.Value, key string) bool {
	return slices.ContainsFunc(values, func(v *table.Value) bool { return v.Key == key && v.Text != "" })
}

// Complete reports whether the values of a section name both ends: it is a connection, and no part of others.
func Complete(values []*table.Value) bool {
	return Says(values, "left") && Says(values, "right")
}

// Sides returns the prefix of the local and of the remote keywords: right is local where its address is one of the
// gateway's own and left's is not (ipsec.conf(5)).
func Sides(g *model.Gateway, values []*table.Value) (local, remote string) {
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
	Who    []string
	Kind   string // in upper case
	Value  string
	Quoted bool // the value is in quotation marks
	Blank  bool // its line begins with a blank
	Glued  bool // no blank stands before the colon: no daemon takes it
	At     source.Pos
	File   *model.File
}

// Secrets reads ipsec.secrets. Every value is hidden from quotes at once.
func Secrets(in *read.Input) []Secret {
	var out []Secret
	for e := range sections.Entries(in.File.Bytes()) {
		if e.Includes() {
			in.Count()
			for _, sub := range in.Include(in.Pos(e.Place), unquoteEither(strings.TrimSpace(strings.TrimPrefix(e.Text, "include")))) {
				out = append(out, Secrets(sub)...)
			}
			continue
		}
		s, ok := secret(e.Words)
		if m := glued().FindStringSubmatchIndex(e.Text); !ok && m != nil {
			s, ok = secret(append(sections.Fields(e.Text[:m[2]]), append([]string{":"}, sections.Fields(e.Text[m[2]+1:])...)...))
			s.Glued = ok
		}
		if !ok {
			for k := e.Line; k <= e.Last; k++ {
				in.File.Hide(k, in.File.Line(k)) // whatever it is, it may be a key
			}
			in.Unread(in.Pos(e.Place), read.Owner{}, "an entry is: [who ...] : KIND value")
			continue
		}
		in.Count()
		s.At, s.File, s.Blank = in.Pos(e.Place), in.File, e.Blank
		in.File.Hide(e.Line, s.Value)
		for k := e.Line + 1; k <= e.Last; k++ {
			in.File.Hide(k, in.File.Line(k)) // a part of it may be part of the key
		}
		out = append(out, s)
	}
	return out
}

// glued is an entry whose colon follows an owner without a blank.
var glued = lazy.Regexp(`^[^:"'#]*[^\s:"'#](:)(?:PSK|RSA|ECDSA|EAP|XAUTH|PIN|PKCS8|PKCS12|NTLM|PPKS)\s`)

func secret(words []string) (Secret, bool) {
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
			s.Who = append(s.Who, unquoteEither(who))
		}
		if len(rest) > 1 {
			value := strings.Join(rest[1:], " ")
			if len(rest) > 2 && s.Kind == "PSK" {
				value = rest[1]
			}
			s.Value = unquoteEither(value)
			s.Quoted = s.Value != value
		}
		return s, true
	}
	return Secret{}, false
}

// unquoteEither takes quotation marks of either kind away, as ipsec.secrets has them.
func unquoteEither(s string) string {
	if len(s) > 1 && (s[0] == '"' || s[0] == '\'') && s[len(s)-1] == s[0] {
		return s[1 : len(s)-1]
	}
	return s
}
