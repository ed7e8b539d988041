// Package table turns the keys and values of a saved section into settings: as said, or the daemon's default. Readers
// of formats with keys and values share it.
package table

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"toril/daemon"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/source"
)

// Value is one key with its value, as written.
type Value struct {
	Key, Text string
	At        source.Pos
	Written   source.Range // of Text in the file; zero where quotation marks or line ends stand between its bytes
	Returned  bool         // a carriage return stands at its end, in a file that is not converted
	Inherited bool         // it stands in another section that this one refers to
	Was       []source.Pos // earlier lines that say the key with another value
	Used      bool
}

// Defaults are what a daemon does where the sections of a file say nothing. Each is read once in a run, for all files.
type Defaults struct {
	of    *daemon.Section                      // whose keywords stand in rows; nil for one whose readers know them
	rows  map[string]daemon.Default            // by their keys, right forms as left
	asked atomic.Pointer[map[string]*fallback] // by their keys, those that were asked for; never changed, but replaced
	mu    sync.Mutex                           // is held while that is replaced
}

// fallback is what holds where a key is not there.
type fallback struct {
	daemon.Default
	parsed atomic.Pointer[any]
	why    atomic.Pointer[reason]
}

// reason is why a default holds, in a section of a path.
type reason struct{ path, text string }

// whose says what defaults are of.
type whose struct {
	daemon                 *daemon.Known
	version, file, section string
}

var known sync.Map // of *Defaults, by whose they are

// By returns the defaults of a section of a file in a daemon's table; version "" is the newest.
func By(k *daemon.Known, version, file, section string) *Defaults {
	of := whose{k, version, file, section}
	d, ok := known.Load(of)
	if !ok {
		made := &Defaults{of: k.Section(file, section), rows: k.For(version, file, section)}
		made.asked.Store(&map[string]*fallback{})
		d, _ = known.LoadOrStore(of, made)
	}
	return d.(*Defaults)
}

// Section takes the settings of one section. What is not taken stays unread.
type Section struct {
	In       *read.Input
	Values   []*Value
	Software string         // for the reason of a default
	Path     string         // for the reason of a default: "connections.<conn>"
	Defaults *Defaults      // what holds where a key is not there
	Owner    read.Owner     // what an unread value makes unsure
	Refused  **source.Error // set where the daemon would refuse the connection as a whole; nil: it does not
	Strict   bool           // the daemon refuses the connection for a key that it does not know
	Quiet    bool           // the section has no effect: what is not understood in it changes nothing
	Version  string         // of the daemon; "" where it is not known
}

// Lookup returns the value of a key; nil where there is none.
func (s *Section) Lookup(key string) *Value {
	for _, v := range s.Values {
		if v.Key == key {
			return v
		}
	}
	return nil
}

// Says reports whether one of some keys has a value that is no word of the daemon's, which begins with "%". It takes none of them.
func (s *Section) Says(keys ...string) bool {
	return slices.ContainsFunc(s.Values, func(v *Value) bool {
		return slices.Contains(keys, v.Key) && v.Text != "" && !strings.HasPrefix(v.Text, "%")
	})
}

// Take returns the setting of a key where it is said, by whichever of its names; otherwise the daemon's default, which stands in its table.
// A value that the daemon cannot parse makes it refuse the whole connection.
func Take[T any](s *Section, parse func(string) (T, error), key string) model.Setting[T] {
	d := s.row(key)
	var value T
	done := false
	if p := d.parsed.Load(); p != nil {
		value, done = (*p).(T)
	}
	if !done && d.Value != "" {
		var err error
		if value, err = parse(d.Value); err != nil || d.Computed {
			// daemon/<name> and the reader do not fit each other
			panic(fmt.Sprintf("the default of %s cannot be read: %v", key, err))
		}
		parsed := any(value)
		d.parsed.Store(&parsed)
	}
	return TakeOr(s, value, parse, key)
}

// Read is Take with the form of the keyword's row.
func Read[T any](s *Section, key string) model.Setting[T] { return Take(s, parser[T](s, key), key) }

// ReadOr is Read with a default that follows from other settings.
func ReadOr[T any](s *Section, byDefault T, key string) model.Setting[T] {
	return TakeOr(s, byDefault, parser[T](s, key), key)
}

func parser[T any](s *Section, key string) func(string) (T, error) {
	k := s.Defaults.of.Named(key)
	return func(text string) (T, error) {
		got, err := k.Read(text, s.Version)
		v, _ := got.(T)
		return v, err
	}
}

// Fill reads every keyword of the section that is a setting, in the order of their rows: as it is said, or what holds where it is not.
func Fill(s *Section, of settings.Subject) {
	subject := daemon.Subject{Subject: of, Version: s.Version}
	for i := range s.Defaults.of.Keywords {
		k := &s.Defaults.of.Keywords[i]
		switch {
		case k.Sets != nil:
			s.fill(k, subject)
		case k.Checked:
			s.take(k.Name(), func(text string) (any, error) { return k.Read(text, s.Version) })
		}
		if k.After != nil {
			k.After(subject)
		}
	}
}

func (s *Section) fill(k *daemon.Keyword, of daemon.Subject) {
	switch v, got := s.take(k.Name(), func(text string) (any, error) { return k.Read(text, s.Version) }); {
	case v == nil:
		s.assume(k, of)
	case v.Inherited:
		k.Sets.Inherit(of.Subject, got, v.At)
	default:
		k.Sets.Put(of.Subject, got, v.At)
	}
}

// assume sets what holds where a keyword is not said. A setting that no check asks for is kept only where a file says it.
func (s *Section) assume(k *daemon.Keyword, of daemon.Subject) {
	switch {
	case k.Sets.Further:
	case k.Follows != nil:
		k.Sets.Assume(of.Subject, k.Follows(of), s.Why(k.Name()))
	default:
		k.Sets.Assume(of.Subject, s.byDefault(k), s.Why(k.Name()))
	}
}

// byDefault returns the value of a keyword's default.
func (s *Section) byDefault(k *daemon.Keyword) any {
	d := s.row(k.Name())
	if p := d.parsed.Load(); p != nil {
		return *p
	}
	value := reflect.Zero(k.Sets.Takes()).Interface()
	if d.Value != "" {
		var err error
		if value, err = k.Read(d.Value, s.Version); err != nil || d.Computed {
			// daemon/<name> and the reader do not fit each other
			panic(fmt.Sprintf("the default of %s cannot be read: %v", k.Name(), err))
		}
	}
	d.parsed.Store(&value)
	return value
}

// row returns what the daemon's table has of a key, which must be there.
func (s *Section) row(key string) *fallback {
	if d := (*s.Defaults.asked.Load())[key]; d != nil {
		return d
	}
	return s.Defaults.add(key)
}

// add finds what is asked for the first time.
func (d *Defaults) add(key string) *fallback {
	d.mu.Lock()
	defer d.mu.Unlock()
	asked := maps.Clone(*d.asked.Load())
	if asked[key] == nil { // else another file asked at the same time
		row, ok := d.rows[Left(key)]
		if !ok {
			panic("no default of " + key)
		}
		asked[key] = &fallback{Default: row}
		d.asked.Store(&asked)
	}
	return asked[key]
}

// Left returns the form for the left side of a keyword for either side.
func Left(key string) string {
	if rest, ok := strings.CutPrefix(key, "right"); ok {
		return "left" + rest
	}
	return key
}

// said returns the value of a key by the first of its names that is said; nil where none is.
func (s *Section) said(key string) *Value {
	if v := s.saidBy(key); v != nil {
		return v
	}
	for _, name := range s.row(key).Also {
		if v := s.saidBy(name); v != nil {
			return v
		}
	}
	return nil
}

// saidBy returns the value of a key by this name; nil where it says nothing.
func (s *Section) saidBy(name string) *Value {
	v := s.Lookup(name)
	if v == nil {
		return nil
	}
	v.Used = true
	s.again(v)
	if v.Text == "" {
		return nil
	}
	return v
}

// TakeOr is Take with a default that follows from other settings.
func TakeOr[T any](s *Section, byDefault T, parse func(string) (T, error), key string) model.Setting[T] {
	v, got := s.take(key, func(text string) (any, error) { got, err := parse(text); return got, err })
	if v == nil {
		return model.Unsaid(byDefault, s.Why(key))
	}
	set := model.Say(got.(T), v.At)
	if v.Inherited {
		set.Origin = model.Inherited
	}
	return set
}

// take reads the value of a key; v is nil where none is said, or none that the daemon takes. What was understood of a list is worth judging
// although the daemon refuses it.
func (s *Section) take(key string, parse func(string) (any, error)) (v *Value, got any) {
	if v = s.said(key); v == nil {
		return nil, nil
	}
	got, err := parse(v.Text)
	proposals, list := got.([]ike.Proposal)
	v.place(proposals)
	if err != nil {
		if s.Refuse(v, err); !list {
			return nil, nil
		}
	}
	return v, got
}

// place gives each proposal of a value its place in the file.
func (v *Value) place(ps []ike.Proposal) {
	for i := range ps {
		if ps[i].Range.End == 0 { // the daemon's own
			continue
		}
		if v.Written.End == 0 {
			ps[i].Range = source.Range{}
		} else {
			ps[i].Range = ps[i].Range.From(v.Written.Start)
		}
	}
}

// Covers lists what a reader uses of a format: the keys of the daemon's tables, which it takes all settings by.
func Covers(k *daemon.Known, file string) []read.Coverage {
	var out []read.Coverage
	for _, d := range k.In("") {
		if d.File != file {
			continue
		}
		names := append([]string{d.Key}, d.Also...)
		for i, n := range names {
			if rest, sided := strings.CutPrefix(n, "left"); sided {
				names[i] = "left|right" + rest
			}
		}
		name := strings.Join(names, ", ")
		if strings.Contains(d.Section, "<") {
			name = d.Section + "." + name
		}
		out = append(out, read.Coverage{Statement: name, Use: read.Used})
	}
	return out
}

// irrelevant lists keys that are read and have no bearing on what an auditor asks, each with the reason.
func irrelevant(section string, reasons map[string]string) []read.Coverage {
	var out []read.Coverage
	for _, k := range slices.Sorted(maps.Keys(reasons)) {
		out = append(out, read.Coverage{Statement: section + k, Use: read.Irrelevant, Note: reasons[k]})
	}
	return out
}

// Why says whose the default of a key is, and since when, where that depends on a version which is not known.
func (s *Section) Why(key string) string {
	d := s.row(key)
	if why := d.why.Load(); why != nil && why.path == s.Path { // as nearly always: sections of a kind have one path
		return why.text
	}
	why := s.Software + " default of " + s.Path + "." + key
	if d.Before != nil && d.Before.Value != d.Value {
		why += " (" + d.Change() + ")"
	}
	d.why.Store(&reason{s.Path, why})
	return why
}

// Refuse says that the daemon cannot use a value.
func (s *Section) Refuse(v *Value, err error) {
	e := source.Errorf(v.At, "%s", s.veiled(v.At, fmt.Sprintf("%s: %v", source.Clean(v.Key), source.Clean(err.Error()))))
	if s.Refused != nil && *s.Refused == nil {
		*s.Refused = e
	}
	s.Note(v, e.Message)
}

// Note keeps an unread value where it stands, which may be in an included file.
func (s *Section) Note(v *Value, why string) {
	if !s.Quiet {
		s.keep(v.At, s.Owner, s.veiled(v.At, why))
	}
}

func (s *Section) keep(at source.Pos, of read.Owner, why string) {
	s.In.Leave(s.In.FileOf(at.File), at, of, model.NotRead, why)
}

// veiled masks in a message what may be a value that was not understood, and the line in quotes.
func (s *Section) veiled(at source.Pos, why string) string {
	for _, file := range s.In.Gateway.Files {
		if file.Path == at.File {
			file.Veil(at)
			return file.Veiled(at, why)
		}
	}
	return why
}

// Leave keeps a value unread that says nothing about the settings of its section.
func (s *Section) Leave(at source.Pos, why string) {
	if !s.Quiet {
		s.keep(at, read.Owner{Name: s.Owner.Name, Harmless: true}, why)
	}
}

func (s *Section) again(v *Value) {
	if len(v.Was) > 0 && !v.Inherited && !s.Quiet {
		s.In.Gateway.Definitions = append(
			s.In.Gateway.Definitions,
			&model.Definition{Kind: "value", Name: s.Owner.Name + " " + v.Key, At: v.At, Used: []source.Pos{v.At}, Again: v.Was},
		)
	}
}

// Unknown notes every value that was not taken, and is of no keyword on which no answer depends.
func (s *Section) Unknown(known ...string) {
	for _, v := range s.Values {
		if k := s.Defaults.of.Named(v.Key); k != nil && k.Ignored != "" {
			v.Used = true
		}
	}
	s.Rest(nil, known...)
}

// Ignored lists the keywords of a section on which no answer depends, each with the reason.
func Ignored(section *daemon.Section, shown string) []read.Coverage {
	reasons := map[string]string{}
	for _, k := range section.Keywords {
		if k.Ignored != "" {
			reasons[k.Name()] = k.Ignored
		}
	}
	return irrelevant(shown, reasons)
}

// Rest notes every value that was not taken, and is neither irrelevant to the audit nor otherwise known, as unread.
func (s *Section) Rest(irrelevant map[string]string, known ...string) {
	for _, v := range s.Values {
		if v.Text != "" && !v.Used && irrelevant[v.Key] == "" && !slices.Contains(known, v.Key) {
			why := fmt.Sprintf("%q is not a known option of %s", source.Clean(v.Key), s.Path)
			if s.Strict && s.Refused != nil && *s.Refused == nil {
				*s.Refused = source.Errorf(v.At, "%s", s.veiled(v.At, why))
			}
			s.Note(v, why)
		}
	}
}
