package phrasebook

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/source"
)

// Tried is what a phrasebook makes of one file.
type Tried struct {
	File     *model.File
	Gateway  *model.Gateway
	Sections []Section
	Missed   []Form // statements that no phrase fits
	Doubts   []model.Unread
	Problems []*source.Error
	Means    map[int][]string // by line, what its statements say: settings, "ike.encryption", "interface.address"
}

// Section is a part of what was found: a connection, a chain, the interfaces.
type Section struct {
	Title string
	Rows  []Row
}

// Row is one fact of it.
type Row struct {
	Name  string
	Value string
	Line  int // that says it; 0 for a default
}

// Try reads one file by itself, as a gateway of its own, and tells what it found and what it missed.
func (b *Book) Try(ctx context.Context, file *source.File) *Tried {
	f := &model.File{File: file, Format: b.Language}
	in := read.NewInput(ctx, "sample", nil, f, &read.Folder{Taken: map[string]bool{}})
	r := b.run(in)
	r.traced = true
	r.read()
	g := in.Gateway
	g.Resolve()
	t := &Tried{File: f, Gateway: g, Missed: Forms(r.missed), Means: r.means, Problems: g.Problems}
	for _, u := range f.Unread {
		if !slices.ContainsFunc(r.missed, func(m Miss) bool { return m.Line == u.At.Line }) {
			t.Doubts = append(t.Doubts, u)
		}
	}
	t.tell()
	return t
}

// tell lists what was found. It is long as a table is: a part a kind of thing.
func (t *Tried) tell() {
	g := t.Gateway
	add := func(title string, rows []Row) {
		if len(rows) > 0 {
			t.Sections = append(t.Sections, Section{title, rows})
		}
	}
	for _, c := range g.Connections {
		add("connection "+c.Name, told(settings.OfConnection, settings.Subject{Connection: c}))
		for _, k := range c.Children {
			add("child "+k.Name+" of "+c.Name, told(settings.OfChild, settings.Subject{Connection: c, Child: k}))
		}
	}
	var rows []Row
	for _, k := range g.Keys {
		var owners []string
		for _, o := range k.Owners {
			owners = append(owners, o.String())
		}
		if k.For != nil {
			owners = append(owners, "connection "+k.For.Name)
		}
		rows = append(rows, Row{"pre-shared key", "for " + strings.Join(owners, ", "), k.At.Line})
	}
	add("keys", rows)
	rows = nil
	for _, i := range g.Interfaces {
		var words []string
		for _, a := range i.Addresses {
			words = append(words, a.String())
		}
		if i.Kind != "" {
			words = append(words, i.Kind)
		}
		if i.Down {
			words = append(words, "switched off")
		}
		rows = append(rows, Row{i.Name, strings.Join(words, ", "), i.At.Line})
	}
	add("interfaces", rows)
	rows = nil
	for _, r := range g.Routes {
		rows = append(rows, Row{r.To.String(), routeWords(r), r.At.Line})
	}
	add("routes", rows)
	rows = nil
	for _, p := range g.Protocols {
		rows = append(rows, Row{p.Name, fmt.Sprintf("%d networks, %d interfaces", len(p.Networks), len(p.Interfaces)), p.At.Line})
	}
	add("routing protocols", rows)
	for _, c := range g.Chains {
		rows = []Row{{"otherwise", c.Policy.Value.String(), 0}}
		if c.Hook == model.NoHook {
			rows = nil
		}
		for _, r := range c.Rules {
			rows = append(rows, Row{verbWords(r), r.When.String(), r.At.Line})
		}
		add("rules of "+c.Name, rows)
	}
	rows = nil
	for _, d := range g.Definitions {
		what := "used " + times(len(d.Used))
		if d.Missing {
			what = "is not there"
		}
		rows = append(rows, Row{d.Kind + " " + d.Name, what, d.At.Line})
	}
	add("names", rows)
}

func times(n int) string {
	switch n {
	case 0:
		return "nowhere"
	case 1:
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func routeWords(r *model.Route) string {
	var words []string
	if r.Kind != "unicast" {
		words = append(words, r.Kind)
	}
	if r.Via.IsValid() {
		words = append(words, "next hop "+r.Via.String())
	}
	if r.Dev != "" {
		words = append(words, "via "+r.Dev)
	}
	return strings.Join(words, ", ")
}

func verbWords(r *model.Rule) string {
	w := r.Verb.String()
	switch {
	case r.Target != "":
		w += " to list " + r.Target[strings.LastIndexByte(r.Target, ' ')+1:]
	case r.Writes().Text != "":
		w += " to " + r.To.Text
	}
	for _, u := range r.Doubts.Says() {
		w += ", if " + u
	}
	if r.Comment == endComment || r.Comment == answersComment {
		w += ", " + r.Comment
	}
	return w
}

// told are the settings of a connection or a child that are worth a line.
func told(of settings.Level, s settings.Subject) []Row {
	var out []Row
	for _, row := range settings.All() {
		if row.Of != of || !row.Told(s) {
			continue
		}
		if v, ok := row.Get(s); ok {
			text := v.Text
			if v.Plain != v.Text && !strings.Contains(v.Plain, v.Text) && v.Plain != "" {
				text += " (" + v.Plain + ")"
			}
			out = append(out, Row{row.Name, text, v.At.Line})
		}
	}
	return out
}
