package fix

import (
	"fmt"
	"strings"

	"toril/daemon"
	"toril/model"
	"toril/model/settings"
	"toril/source"
	"toril/syntax"
	"toril/syntax/braces"
	"toril/syntax/sections"
)

// keyed writes settings into a file of keywords and values, by the rows of its daemon's keywords.
type keyed struct {
	g        *model.Gateway
	format   string
	sections []*daemon.Section
	layout   layout
}

// layout is how the sections of a format stand in its files.
type layout interface {
	// find returns the line on which a section begins, 0 where it is not there, and the last of its statements that says a keyword, by any
	// of its names; the zero Place where none does.
	find(f *model.File, path, names []string) (opened int, said syntax.Place)
	// step is the indentation of a statement beyond that of its section.
	step() string
}

func (w keyed) set(x set) ([]Edit, error) {
	section, k := w.keyword(x.setting)
	if k == nil {
		return nil, fmt.Errorf("%s is not a setting that Toril writes into %s", x.setting.Name, w.format)
	}
	of := daemon.Subject{Subject: settings.Subject{Connection: x.end.Connection, Child: x.child}}
	text, err := k.Write(of, x.value)
	if err != nil {
		return nil, err
	}
	edit, ok := w.instead(x, section, section.Quoted(text))
	if !ok {
		if edit, err = w.statement(x, section, k, section.Quoted(text), false); err != nil {
			return nil, err
		}
	}
	out := []Edit{edit}
	if beside := section.Named(k.Beside[0]); beside != nil {
		if edit, err := w.statement(x, section, beside, k.Beside[1], true); err == nil {
			out = append(out, edit)
		}
	}
	return out, nil
}

// statement makes an edit of a statement in the section of a subject, or a new one where there is none. Where it is only to have some
// effect, one that is there stays, unless its value is the default.
func (w keyed) statement(x set, section *daemon.Section, k *daemon.Keyword, value string, some bool) (edit Edit, err error) {
	at, path := x.end.Connection.At, strings.Split(section.Path, ".")
	if len(path) == 1 { // of a file whose sections are not in others
		path = append(path, "<conn>")
	}
	for i, part := range path {
		switch {
		case part == "<conn>":
			path[i] = x.end.Connection.Name
		case part == "<child>" && x.child != nil:
			path[i], at = x.child.Name, x.child.At
		}
	}
	f := w.g.File(at.File)
	if f == nil {
		return edit, fmt.Errorf("%s is not a file of %s", at.File, w.g.Name)
	}
	line, said := w.layout.find(f, path, k.Names)
	switch {
	case line == 0:
		return edit, fmt.Errorf("%s: the section %s is not in this file", at.File, strings.Join(path, "."))
	case said.Line == 0:
		return behind(f, line, w.layout.step(), k.Name()+section.Assigns+value), nil
	}
	r, ok := valueOf(f, source.Pos{File: f.Path, Line: said.Line, Range: said.Range})
	if !ok {
		return edit, fmt.Errorf("%s:%d: the statement has no value", f.Path, said.Line)
	}
	if some && string(f.Bytes()[r.Start:r.End]) != k.Default() {
		return edit, fmt.Errorf("%s:%d: the statement stays", f.Path, said.Line)
	}
	return Edit{File: f.Path, Range: r, Text: value}, nil
}

// keyword returns the keyword of a setting, with its section.
func (w keyed) keyword(r *settings.Row) (*daemon.Section, *daemon.Keyword) {
	for _, s := range w.sections {
		if k := s.Of(r); k != nil {
			return s, k
		}
	}
	return nil, nil
}

// instead makes an edit of the value of the statement that says the setting now; ok is false where none does, or one that others share.
func (w keyed) instead(x set, section *daemon.Section, text string) (edit Edit, ok bool) {
	said, _ := x.setting.Get(settings.Subject{Connection: x.end.Connection, Child: x.child})
	f := w.g.File(said.At.File)
	if said.At.IsZero() || said.Origin != model.Said || f == nil {
		return edit, false
	}
	r := f.Range(said.At)
	key, _, _ := strings.Cut(string(f.Bytes()[r.Start:r.End]), "=")
	k := section.Named(strings.TrimSpace(key))
	if k == nil || !k.Decides(x.setting) {
		return edit, false
	}
	r, ok = valueOf(f, said.At)
	return Edit{File: f.Path, Range: r, Text: text}, ok
}

// inBraces is the layout of swanctl.conf.
type inBraces struct{}

func (inBraces) step() string { return "    " }

// find takes no section that goes on behind its opening brace on the same line.
func (inBraces) find(f *model.File, path, names []string) (opened int, said syntax.Place) {
	h := &finder{want: strings.Join(path, "\x00"), names: names}
	braces.Parse(f.Bytes(), h)
	if text, _, _ := strings.Cut(f.Line(h.line), "#"); !strings.HasSuffix(strings.TrimSpace(text), "{") {
		return 0, said
	}
	return h.line, h.said
}

// finder looks for a section, and in it for a keyword.
type finder struct {
	open  []string
	want  string
	names []string
	line  int
	said  syntax.Place
}

func (h *finder) Open(name string, _ []braces.Reference, at syntax.Place) {
	if h.open = append(h.open, name); h.line == 0 && strings.Join(h.open, "\x00") == h.want {
		h.line = at.Line
	}
}

func (h *finder) Close() { h.open = h.open[:max(0, len(h.open)-1)] }

func (h *finder) Value(key string, _ syntax.Word, at syntax.Place) {
	if named(h.names, key) && strings.Join(h.open, "\x00") == h.want {
		h.said = at
	}
}

func (*finder) Include(string, syntax.Place) {}
func (*finder) Broken(int, string)           {}
func (*finder) Unread(int, string, string)   {}
func (*finder) TooDeep(int)                  {}

// byMargin is the layout of ipsec.conf.
type byMargin struct{}

func (byMargin) step() string { return "\t" }

func (byMargin) find(f *model.File, path, names []string) (opened int, said syntax.Place) {
	inside := false
	for l := range sections.Parse(f.Bytes()) {
		switch {
		case l.Text == "":
		case !l.Indented:
			word, rest := l.Head()
			inside = word == "conn" && strings.TrimSpace(rest) == path[len(path)-1]
			if inside && opened == 0 {
				opened = l.Line
			}
		case inside:
			if k, _, ok := l.Setting(); ok && named(names, k) {
				said = l.Place
			}
		}
	}
	return opened, said
}

// named reports whether a keyword is one of some names, which some daemons take in capital letters too.
func named(names []string, key string) bool {
	for _, n := range names {
		if strings.EqualFold(n, key) {
			return true
		}
	}
	return false
}
