// Package settings is the one table of the settings of the model: what each is called, how it is shown, and how what two ends say of it
// must relate. Whatever runs over settings runs over it.
package settings

import (
	"reflect"
	"time"

	"toril/ike"
	"toril/model"
	"toril/present"
	"toril/source"
)

// Level is what a setting is of.
type Level uint8

// The levels.
const (
	OfConnection Level = iota
	OfChild
)

// String returns "connection" or "child".
func (l Level) String() string { return [...]string{"connection", "child"}[l] }

// Relation is how what the two ends of a tunnel say must relate.
type Relation uint8

// The relations.
const (
	Own        Relation = iota // each end's own: there is nothing to compare
	Equal                      // both must say the same
	Mirrored                   // what one end says of itself is what the other expects of its peer
	Negotiated                 // the two settle it from what each accepts
	Shorter                    // the shorter of the two holds
	Either                     // one end that says yes is enough
)

// String says it in the words of docs/settings.md.
func (r Relation) String() string {
	return [...]string{"each end its own", "the same at both ends", "mirrored", "negotiated", "the shorter one holds",
		"one end is enough"}[r]
}

// Setting is a setting whose values are of type T: its row, which takes no others.
type Setting[T any] struct{ *Row }

// Row describes a setting, whatever its values are.
type Row struct {
	Name     string // in JSON and in tables of formats
	Term     string // the trade's
	Of       Level
	Relation Relation
	Peer     string // of a mirrored setting: the name of the one by which the other end says the same
	Each     string // of a mirrored setting: its term for one end, "%s" being the end's name; "" at the other's mirror image
	Unit     string // of the value in JSON: "s", "bytes", "packets"; "" for none
	Standard string // where it is described; "" where no standard does
	Main     bool   // it is shown although nobody says it
	Derived  bool   // it follows from another row
	Further  bool   // no check asks for it: it is kept where a file says it, and nowhere else

	get   func(Subject) Shown
	put   func(s Subject, value any, from model.Setting[none]) bool // nil where it follows from others; from is where the value comes from
	takes reflect.Type                                              // of the value that put takes
	said  func(Subject) bool                                        // somebody says it
	when  func(Subject) bool                                        // nil: always
	label func(Subject) string                                      // nil: the term
	plain func(any) string                                          // in words that no daemon's are; nil: as it is shown
}

type none = struct{}

// Subject is what a row is asked of: a connection, and for a row of a child the child too.
type Subject struct {
	Connection *model.Connection
	Child      *model.Child
}

// Shown is one end's value of a setting.
type Shown struct {
	Text    string // as it is configured
	Plain   string // in words that no daemon's are
	Value   any    // the value itself
	Default bool
	Origin  model.Origin
	At      source.Pos // nowhere for a default
}

// Get returns the value of the setting; ok is false where it has no place there.
func (r *Row) Get(s Subject) (v Shown, ok bool) {
	if !r.has(s) {
		return v, false
	}
	v = r.get(s)
	v.Plain = v.Text
	if r.plain != nil {
		v.Plain = r.plain(v.Value)
	}
	return v, true
}

// Said reports whether somebody configures the setting; has is false where it has no place there.
func (r *Row) Said(s Subject) (said, has bool) {
	if !r.has(s) {
		return false, false
	}
	return r.said(s), true
}

// has reports whether the setting has a place there.
func (r *Row) has(s Subject) bool {
	return r.get != nil && s.Connection != nil && (r.Of == OfConnection || s.Child != nil) && (r.when == nil || r.when(s))
}

// Label returns the setting's term, which may depend on what it is asked of.
func (r *Row) Label(s Subject) string {
	if r.label != nil {
		return r.label(s)
	}
	return r.Term
}

// Told reports whether a setting is worth a line: one that people compare first, or one that any end says.
func (r *Row) Told(ends ...Subject) bool {
	for _, s := range ends {
		if r.has(s) && (r.Main || r.said(s)) {
			return true
		}
	}
	return false
}

// Named returns the setting of a name, as files have it; nil where there is none.
func Named(name string) *Row {
	for _, r := range All() {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// connection makes a row of a setting of connections.
func connection[T any](r Row, of func(*model.Connection) *model.Setting[T], show func(T) string) Setting[T] {
	r.Of = OfConnection
	return row(r, func(s Subject) *model.Setting[T] { return of(s.Connection) }, show)
}

// child makes a row of a setting of children.
func child[T any](r Row, of func(*model.Child) *model.Setting[T], show func(T) string) Setting[T] {
	r.Of = OfChild
	return row(r, func(s Subject) *model.Setting[T] { return of(s.Child) }, show)
}

func row[T any](r Row, of func(Subject) *model.Setting[T], show func(T) string) Setting[T] {
	r.get = func(s Subject) Shown { return shown(*of(s), show) }
	r.said = func(s Subject) bool { return !of(s).IsDefault() }
	if r.Derived {
		return Setting[T]{&r}
	}
	r.takes = reflect.TypeFor[T]()
	r.put = func(s Subject, value any, from model.Setting[none]) bool {
		v, ok := value.(T)
		if ok {
			*of(s) = given(v, from)
		}
		return ok
	}
	return Setting[T]{&r}
}

// given makes a setting of a value and of where it comes from.
func given[T any](v T, from model.Setting[none]) model.Setting[T] {
	return model.Setting[T]{Value: v, Origin: from.Origin, At: from.At, Why: from.Why}
}

// Words returns a value of the setting in words that no daemon's are; "" where the setting takes no such value.
func (r *Row) Words(value any) string {
	s := Subject{Connection: &model.Connection{Version: model.Setting[ike.Version]{Value: ike.V1}}, Child: &model.Child{}}
	if !r.Put(s, value, source.Pos{}) {
		return ""
	}
	v, _ := r.Get(s)
	return v.Plain
}

// Takes returns the type of the setting's value; nil where it follows from others and cannot be set.
func (r *Row) Takes() reflect.Type { return r.takes }

// Put sets the setting to a value that a file says at a position. It reports false, and sets nothing, where the value is of another type
// than the setting takes, or the setting has no place there.
func (r *Row) Put(s Subject, value any, at source.Pos) bool {
	return r.puts(s) && r.put(s, value, model.Say(none{}, at))
}

// Inherit sets the setting to a value that a file says at a position for whoever refers to it there. It reports what Put reports.
func (r *Row) Inherit(s Subject, value any, at source.Pos) bool {
	return r.puts(s) && r.put(s, value, model.Setting[none]{Origin: model.Inherited, At: at})
}

// Assume sets the setting to a value that nobody says; why names whose default it is. It reports what Put reports.
func (r *Row) Assume(s Subject, value any, why string) bool {
	return r.puts(s) && r.put(s, value, model.Unsaid(none{}, why))
}

func (r *Row) puts(s Subject) bool {
	return r.put != nil && s.Connection != nil && (r.Of == OfConnection || s.Child != nil)
}

func shown[T any](set model.Setting[T], show func(T) string) Shown {
	return Shown{Text: show(set.Value), Value: set.Value, Default: set.Origin == model.Default, Origin: set.Origin, At: set.At}
}

// More makes a setting of connections or children that no check asks for: the row is all there is to it. Readers keep what a file says
// under its name.
func More(r Row) Setting[string] {
	more := func(s Subject) (model.Setting[string], bool) {
		all := s.Connection.More
		if r.Of == OfChild {
			all = s.Child.More
		}
		set, said := all[r.Name]
		return set, said
	}
	r.Further = true
	r.get = func(s Subject) Shown {
		set, said := more(s)
		if !said {
			return Shown{Text: "not said", Value: "", Default: true}
		}
		return shown(set, func(t string) string { return t })
	}
	r.said = func(s Subject) bool {
		set, there := more(s)
		return there && !set.IsDefault()
	}
	r.takes = reflect.TypeFor[string]()
	r.put = func(s Subject, value any, from model.Setting[none]) bool {
		v, ok := value.(string)
		all := &s.Connection.More
		if r.Of == OfChild {
			all = &s.Child.More
		}
		if *all == nil {
			*all = map[string]model.Setting[string]{}
		}
		if ok {
			(*all)[r.Name] = given(v, from)
		}
		return ok
	}
	return Setting[string]{&r}
}

// as puts how a row is shown beside what it is.
func as[T any](s Setting[T], change func(*Row)) Setting[T] {
	change(s.Row)
	return s
}

func v1(s Subject) bool { return s.Connection.Version.Value == ike.V1 }

func names(v any) string { return present.Names(v.([]ike.Proposal)) }

var (
	onOff    = present.Choice("on", "off")
	yesNo    = present.Choice("yes", "no")
	spanOff  = present.SpanOr("off")
	spanNone = present.SpanOr("none")
)

// every puts how often something is done; off where never.
func every(d time.Duration) string {
	if d == 0 {
		return "off"
	}
	return "every " + present.Span(d)
}
