package daemon

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"toril/daemon/form"
	"toril/model/settings"
)

// Section is a kind of section of a file that configures a daemon: all that is known of its keywords.
type Section struct {
	File     string              // the saved format: "swanctl.conf"
	Name     string              // of the file, if that is another: "ipsec.conf"
	Format   string              // its name among those that are read, if that is another
	Path     string              // "connections.<conn>"
	Page     string              // where the keywords are described
	Assigns  string              // what stands between a keyword and its value in what Toril writes: " = "
	Quote    func(string) string // makes a text one that may stand as a value; nil: every text may
	Keywords []Keyword

	by       map[string]*Keyword // by their names
	defaults []Default
}

// Keyword is one keyword of a section: one row says all that is known of it.
type Keyword struct {
	Names   []string          // the first is the keyword's own, the others are further names of it
	Lines   string            // its default, as Table reads it, a line a version; "" for one that is passed over
	Sets    *settings.Row     // the setting that it is; nil for one from which code works out more
	Checked bool              // its value must be a right one, and means nothing that is asked
	Telling bool              // other formats hardly have it: a file that has it is recognised by it
	Ignored string            // why no answer depends on it; "" for one that is used
	Since   map[string]string // values that the daemon has since a version, by their words
	Follows func(Subject) any // what holds where it is not said, if that follows from other settings; nil for a default of its own
	After   func(Subject)     // what follows for other settings once it is known; nil for nothing
	Serves  []*settings.Row   // settings beside Sets that are set by writing it
	Beside  [2]string         // a keyword, and its value, that must stand beside it for it to have an effect; "" for none
	read    func(string) (any, error)
	write   func(Subject, any) (string, error)

	byDefault string
}

// Subject is what a section describes.
type Subject struct {
	settings.Subject
	Version string // of the daemon; "" where it is not known
}

// Has reports whether the daemon has what a version brought; where its version is not known, it is the newest.
func (s Subject) Has(version string) bool { return s.Version == "" || Compare(s.Version, version) >= 0 }

// Sets makes the row of a keyword that is a setting.
func Sets[T any](lines string, of settings.Setting[T], f form.Form[T]) Keyword {
	k := Reads(lines, f)
	k.Sets = of.Row
	return k
}

// Follows makes the row of a keyword that is a setting, and whose default follows from other settings.
func Follows[T any](lines string, of settings.Setting[T], f form.Form[T], from func(Subject) T) Keyword {
	k := Sets(lines, of, f)
	k.Follows = func(s Subject) any { return from(s) }
	return k
}

// Reads makes the row of a keyword that is no setting by itself: a reader works out more from its value.
func Reads[T any](lines string, f form.Form[T]) Keyword {
	k := Keyword{Lines: lines, read: func(text string) (any, error) { v, err := f.Read(text); return v, err }}
	if f.Write != nil {
		k.write = func(_ Subject, v any) (string, error) {
			value, ok := v.(T)
			if !ok {
				return "", fmt.Errorf("%T is no value of %s", v, k.Name())
			}
			return f.Write(value)
		}
	}
	return k
}

// Uses makes the row of a keyword whose values depend on other keywords: only a reader's code can read them.
func Uses(lines string) Keyword { return Keyword{Lines: lines} }

// Checks makes the row of a keyword whose value must be a right one, and means nothing that is asked.
func Checks[T any](lines string, f form.Form[T]) Keyword {
	k := Reads(lines, f)
	k.Checked = true
	return k
}

// Ignores makes the rows of keywords on which no answer depends.
func Ignores(why string, names ...string) []Keyword {
	out := make([]Keyword, len(names))
	for i, n := range names {
		out[i] = Keyword{Names: []string{n}, Ignored: why}
	}
	return out
}

// Tells makes it a keyword by which files are recognised.
func (k Keyword) Tells() Keyword { k.Telling = true; return k }

// Then adds what follows for other settings once the keyword is known.
func (k Keyword) Then(after func(Subject)) Keyword { k.After = after; return k }

// Serving adds settings that are set by writing the keyword: of these, other keywords decide too.
func (k Keyword) Serving(rows ...*settings.Row) Keyword { k.Serves = rows; return k }

// With adds a keyword, and its value, that must stand beside this one for it to have an effect.
func (k Keyword) With(name, value string) Keyword { k.Beside = [2]string{name, value}; return k }

// Written adds how a value is written, where that depends on what else is configured.
func (k Keyword) Written(write func(Subject, any) (string, error)) Keyword { k.write = write; return k }

// Newer adds a value that the daemon has since a version only.
func (k Keyword) Newer(word, since string) Keyword {
	k.Since = map[string]string{word: since}
	return k
}

// Read reads a value of the keyword as a version of the daemon does; "" is the newest. The error says what the daemon has against it.
func (k *Keyword) Read(text, version string) (any, error) {
	v, err := k.read(text)
	if since := k.Since[strings.ToLower(text)]; err == nil && since != "" && version != "" && Compare(version, since) < 0 {
		err = fmt.Errorf("%q is no word of version %s", text, version)
	}
	return v, err
}

// Reads reports whether the row knows how its values are read.
func (k *Keyword) Reads() bool { return k.read != nil }

// Write writes a value of the keyword for what a section describes. The error is that Toril writes none of its values, or not this one.
func (k *Keyword) Write(of Subject, v any) (string, error) {
	if k.write == nil {
		return "", fmt.Errorf("no value of %s is written", k.Name())
	}
	return k.write(of, v)
}

// Name returns the keyword's own name.
func (k *Keyword) Name() string { return k.Names[0] }

// Default returns the value that holds where the keyword is not said, in the oldest version that is known; "" where it is none, or
// follows from others.
func (k *Keyword) Default() string { return k.byDefault }

// Described completes the description of a section.
func Described(s Section) *Section {
	s.by = map[string]*Keyword{}
	for i := range s.Keywords {
		k := &s.Keywords[i]
		if k.Lines != "" {
			d := Table(s.File, s.Path, s.Page, k.Lines)
			k.Names = append([]string{d[0].Key}, d[0].Also...)
			if !d[0].Computed {
				k.byDefault = d[0].Value
			}
			s.defaults = append(s.defaults, d...)
		}
		for _, n := range k.Names {
			s.by[n] = k
		}
	}
	return &s
}

// Title returns the name of the file that the section is of, as people know it.
func (s *Section) Title() string { return cmp.Or(s.Name, s.File) }

// Defaults returns what holds where the section does not say one of its keywords.
func (s *Section) Defaults() []Default { return s.defaults }

// Named returns the keyword of a name; nil where there is none. Of a keyword of either side there is one row, under the left one's name.
func (s *Section) Named(name string) *Keyword {
	if k := s.by[name]; k != nil {
		return k
	}
	if rest, right := strings.CutPrefix(name, "right"); right {
		return s.by["left"+rest]
	}
	return nil
}

// Of returns the keyword by which a setting is set, the one that is it before one that decides of it too; nil where there is none.
func (s *Section) Of(r *settings.Row) *Keyword {
	for i := range s.Keywords {
		if k := &s.Keywords[i]; k.Sets == r {
			return k
		}
	}
	for i := range s.Keywords {
		if k := &s.Keywords[i]; slices.Contains(k.Serves, r) {
			return k
		}
	}
	return nil
}

// Decides reports whether a setting is set by writing the keyword.
func (k *Keyword) Decides(r *settings.Row) bool { return k.Sets == r || slices.Contains(k.Serves, r) }

// Written returns a statement that sets a setting to a value: "start_action = trap".
func (s *Section) Written(of Subject, r *settings.Row, value any) (string, error) {
	k := s.Of(r)
	if k == nil {
		return "", fmt.Errorf("%s is no setting of %s", r.Name, s.Path)
	}
	text, err := k.Write(of, value)
	text = k.Name() + s.Assigns + s.Quoted(text)
	if k.Beside[0] != "" {
		text += " with " + k.Beside[0] + s.Assigns + k.Beside[1]
	}
	return text, err
}

// Quoted returns a text as it may stand for a value.
func (s *Section) Quoted(text string) string {
	if s.Quote == nil {
		return text
	}
	return s.Quote(text)
}

// Section returns what is known of a kind of section of a file; nil where its keywords are not described.
func (k *Known) Section(file, path string) *Section {
	for _, s := range k.Described() {
		if s.File == file && s.Path == path {
			return s
		}
	}
	return nil
}

// Described returns the kinds of sections of the daemon's files whose keywords are described.
func (k *Known) Described() []*Section {
	if k.Sections == nil {
		return nil
	}
	return k.Sections()
}
