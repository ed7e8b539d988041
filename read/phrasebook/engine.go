package phrasebook

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"toril/daemon"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/source"
	"toril/syntax/statements"
)

// Format makes the book a saved format like any other.
func (b *Book) Format() *read.Format {
	return &read.Format{
		Name:     b.Language,
		Title:    b.Title,
		Software: b.Title,
		Hints:    b.Files,
		Comments: b.Manner.Comments,
		Order:    20,
		Looks: func(f *source.File) (int, string) {
			if b.Begins == "" {
				return 0, ""
			}
			for line := range strings.Lines(string(f.Head())) {
				if strings.HasPrefix(line, b.Begins) {
					return 95, fmt.Sprintf("it has a line that begins with %q", b.Begins)
				}
			}
			return 0, ""
		},
		Read:   b.read,
		Covers: func() []read.Coverage { return covers(b.rules, "") },
	}
}

// covers are the phrases, those that stand in others behind them.
func covers(rules []*rule, within string) []read.Coverage {
	var out []read.Coverage
	for _, r := range rules {
		row := read.Coverage{Statement: within + r.phrase.String(), Use: read.Used, Note: r.moot}
		if r.moot != "" {
			row.Use = read.Irrelevant
		}
		out = append(out, row)
		out = append(out, covers(r.rules, within+r.phrase.String()+" > ")...)
	}
	return out
}

// run is one file on its way through a book.
type run struct {
	book    *Book
	in      *read.Input
	of      map[*model.Connection]*parts
	objects map[reference]*object
	order   []*object
	rules   [][]numbered // by the book's chains
	later   []func()     // what may refer to objects that are said behind it

	version  string // of what wrote the file; "" where it does not say
	referred int    // values that names brought so far
}

// object is what has a name.
type object struct {
	reference
	values []any // selectors, proposals, references to others
	def    *model.Definition

	flat   []any // the values, with those of what it refers to
	state  uint8
	circle bool // it refers to itself
	cut    bool // it stands for more than is followed
}

// The states of a name whose values are looked for.
const (
	onTheWay = iota + 1
	done
)

// The bounds of what a name may stand for, and all names of a file.
const (
	maxReferred = 10_000
	maxInAll    = 1_000_000
)

// parts are what is said in pieces of a connection or a child.
type parts struct {
	said     map[any]map[string][]any // by connection or child, and setting: the values of its slots so far
	children map[string]*model.Child
}

// place is where statements stand: what they are about, and which phrases are known there.
type place struct {
	settings.Subject
	object *object
	port   *model.Interface
	rules  []*rule
	name   string // what an unread statement may change
}

func (b *Book) read(in *read.Input) {
	r := &run{book: b, in: in, of: map[*model.Connection]*parts{}, objects: map[reference]*object{}}
	r.rules = make([][]numbered, len(b.chains))
	list, bad := statements.Parse(in.File.Bytes(), b.Manner)
	for _, x := range bad {
		in.Problemf(x.Line, "%s", x.Why)
	}
	r.statements(list, place{rules: b.rules})
	for _, do := range r.later {
		do()
	}
	r.handOver()
	for _, o := range r.order {
		in.Gateway.Definitions = append(in.Gateway.Definitions, o.def)
	}
	for _, c := range in.Gateway.Connections {
		c.Unsure = r.assume(settings.Subject{Connection: c}, settings.OfConnection) || c.Unsure
		for _, k := range c.Children {
			k.Unsure = r.assume(settings.Subject{Connection: c, Child: k}, settings.OfChild) || k.Unsure
		}
	}
}

// assume gives settings that nobody says the language's defaults. It reports whether one that people compare first is neither said nor
// has a default: then nobody knows what holds.
func (r *run) assume(s settings.Subject, of settings.Level) (unsure bool) {
	for _, row := range settings.All() {
		v, has := row.Get(s)
		if row.Of != of || row.Takes() == nil || !has || !v.Default {
			continue
		}
		a, before := r.book.since(row.Name, r.version)
		if a == nil {
			unsure = unsure || row.Main
			continue
		}
		why := fmt.Sprintf("%s default of %s", r.book.Title, row.Name)
		if r.version == "" && before != nil {
			why += fmt.Sprintf(" (since %s; before: %s)", a.since, before.text)
		}
		row.Assume(s, a.value, why)
	}
	return unsure
}

// since returns the default of a setting for a version, the newest where that is not known, and the one before it; nil for none.
func (b *Book) since(setting, version string) (a, before *assumption) {
	all := b.defaults[setting]
	for i := range all {
		if version == "" || all[i].since == "" || daemon.Compare(version, all[i].since) >= 0 {
			if i+1 < len(all) {
				before = &all[i+1]
			}
			return &all[i], before
		}
	}
	return nil, nil
}

func (r *run) statements(list []*statements.Statement, at place) {
	for _, st := range list {
		if r.in.Context.Err() != nil {
			return
		}
		if len(st.Words) == 0 {
			r.statements(st.Nested, at)
			continue
		}
		r.statement(st, at)
	}
}

// statement finds the first phrase that a statement fits, and does what it says. One that fits none is unread, with all that stands in it.
func (r *run) statement(st *statements.Statement, at place) {
	var best Near
	var nearest *rule
	for _, rule := range at.rules {
		fills, near, ok := rule.phrase.Match(st.Words, r.book.Fold)
		if ok {
			r.in.Count()
			r.apply(rule, st, fills, at)
			return
		}
		if near.Words > best.Words || nearest == nil && (near.Words > 0 || near.Why != "") {
			best, nearest = near, rule
		}
	}
	pos := r.in.Pos(st.Place)
	switch {
	case nearest != nil && best.Why != "":
		r.in.UnreadAt(pos, at.name, "it is like %q, but %s", nearest.phrase, best.Why)
	case nearest != nil:
		r.in.UnreadAt(pos, at.name, "it is like %q, up to word %d", nearest.phrase, best.Words)
	default:
		r.in.UnreadAt(pos, at.name, "no phrase is like it")
	}
	r.unread(st.Nested, at)
}

// unread says of statements within one that was not understood that they are not either.
func (r *run) unread(list []*statements.Statement, at place) {
	for _, st := range list {
		if len(st.Words) > 0 {
			r.in.UnreadAt(r.in.Pos(st.Place), at.name, "it stands in a statement that was not understood")
		}
		r.unread(st.Nested, at)
	}
}

func (r *run) apply(rule *rule, st *statements.Statement, fills []Fill, at place) {
	for _, f := range fills {
		if s, secret := f.Value.(source.Secret); secret {
			r.in.File.Hide(f.At.Line, s.Reveal())
		}
	}
	if rule.moot != "" {
		return
	}
	for _, f := range fills {
		switch {
		case f.Slot != rule.tells:
		case daemon.IsVersion(f.Text):
			r.version = f.Text
		default:
			r.in.UnreadAt(r.in.Pos(st.Place), at.name, "%q is not a version", f.Text)
		}
	}
	pos := r.in.Pos(st.Place)
	at = r.make(rule, fills, pos, at)
	for _, s := range rule.adds {
		for _, f := range fills {
			if f.Slot == s && at.object != nil {
				at.object.values = append(at.object.values, f.Value)
			}
		}
	}
	if len(rule.adds) > 0 && at.object == nil {
		r.in.ProblemAt(pos, "it adds to an object, and there is none around it")
	}
	if rule.offers != nil && rule.offers.of == "object" {
		r.offer(rule.offers, fills, pos, at)
	}
	for _, f := range rule.facts {
		r.say(f, fills, pos, at)
	}
	r.later = append(r.later, func() {
		for _, a := range rule.sets {
			r.set(a, fills, pos, at)
		}
		if rule.offers != nil && rule.offers.of != "object" {
			r.offer(rule.offers, fills, pos, at)
		}
	})
	at.rules = rule.rules
	r.statements(st.Nested, at)
}

// make returns what the statement is about: a connection or a child by its name, made where it is not known yet, or what stands around it.
func (r *run) make(rule *rule, fills []Fill, pos source.Pos, at place) place {
	name := ""
	for _, f := range fills {
		if f.Slot == rule.name {
			name = f.Text
		}
	}
	switch rule.makes {
	case connection:
		i := slices.IndexFunc(r.in.Gateway.Connections, func(c *model.Connection) bool { return name != "" && c.Name == name })
		if i < 0 {
			if name == "" {
				name = fmt.Sprintf("connection%d", len(r.in.Gateway.Connections)+1)
			}
			c := &model.Connection{Name: name, At: pos}
			r.of[c] = &parts{said: map[any]map[string][]any{}, children: map[string]*model.Child{}}
			r.in.Gateway.Connections = append(r.in.Gateway.Connections, c)
			i = len(r.in.Gateway.Connections) - 1
		}
		at.Connection, at.Child, at.object = r.in.Gateway.Connections[i], nil, nil
		at.name = at.Connection.Name
	case childSA:
		if at.Connection == nil {
			r.in.ProblemAt(pos, "a child stands in a connection, and there is none around it")
			return at
		}
		of := r.of[at.Connection]
		if name == "" {
			name = fmt.Sprintf("child%d", len(at.Connection.Children)+1)
		}
		if of.children[name] == nil {
			of.children[name] = &model.Child{Name: name, At: pos}
			at.Connection.Children = append(at.Connection.Children, of.children[name])
		}
		at.Child = of.children[name]
	case port:
		at.port = r.in.Gateway.InterfaceOf(name, pos)
	case named:
		at.object = r.object(reference{rule.kind, name})
		if at.object.def.Missing {
			at.object.def.At, at.object.def.Missing = pos, false
		}
		at.name = ""
	}
	return at
}

// object returns what has a name, made where it is not known yet.
func (r *run) object(ref reference) *object {
	o := r.objects[ref]
	if o == nil {
		o = &object{reference: ref, def: &model.Definition{Kind: ref.kind, Name: source.Clean(ref.name), Missing: true}}
		r.objects[ref] = o
		r.order = append(r.order, o)
	}
	return o
}

// resolved are the values that a value stands for: those of a name, with what that refers to.
func (r *run) resolved(v any, pos source.Pos, at place) []any {
	ref, ok := v.(reference)
	if !ok {
		return []any{v}
	}
	o := r.object(ref)
	o.def.Used = append(o.def.Used, pos)
	r.flatten(o)
	switch {
	case o.def.Missing:
		r.in.UnreadAt(pos, at.name, "the %s %s are not there", ref.kind, source.Clean(ref.name))
	case o.circle:
		r.in.UnreadAt(pos, at.name, "the %s %s refer to themselves", ref.kind, source.Clean(ref.name))
	case o.cut:
		r.in.UnreadAt(pos, at.name, "the %s %s stand for too many values", ref.kind, source.Clean(ref.name))
	}
	return o.flat
}

// flatten finds out, once, what a name stands for.
func (r *run) flatten(o *object) {
	switch o.state {
	case onTheWay:
		o.circle = true
		return
	case done:
		return
	}
	o.state = onTheWay
	for _, v := range o.values {
		ref, ok := v.(reference)
		if !ok {
			o.flat = append(o.flat, v)
			continue
		}
		other := r.object(ref)
		other.def.Used = append(other.def.Used, o.def.At)
		r.flatten(other)
		o.circle, o.cut = o.circle || other.circle, o.cut || other.cut
		if r.referred += len(other.flat); len(o.flat)+len(other.flat) > maxReferred || r.referred > maxInAll {
			o.cut = true
			break
		}
		o.flat = append(o.flat, other.flat...)
	}
	o.state = done
}

// set gives a setting its value. Several statements may give a list its elements.
func (r *run) set(a assignment, fills []Fill, pos source.Pos, at place) {
	if at.Connection == nil || a.row.Of == settings.OfChild && at.Child == nil {
		r.in.ProblemAt(pos, "%s is of a %s, and there is none around it", a.row.Name, a.row.Of)
		return
	}
	if len(a.slots) == 0 {
		a.row.Put(at.Subject, a.value, pos)
		return
	}
	var subject any = at.Connection
	if a.row.Of == settings.OfChild {
		subject = at.Child
	}
	of := r.of[at.Connection].said
	if of[subject] == nil {
		of[subject] = map[string][]any{}
	}
	for _, s := range a.slots {
		for _, f := range fills {
			if f.Slot == s {
				of[subject][a.row.Name] = append(of[subject][a.row.Name], r.resolved(f.Value, pos, at)...)
			}
		}
	}
	if len(of[subject][a.row.Name]) == 0 { // every slot of it may be left out
		return
	}
	for i, v := range of[subject][a.row.Name] {
		if p, ok := v.(ike.Proposal); ok { // of whichever its name was used for
			p.Protocol = ike.IKE
			if a.row.Of == settings.OfChild {
				p.Protocol = ike.ESP
			}
			of[subject][a.row.Name][i] = p
		}
	}
	v, err := a.one(of[subject][a.row.Name])
	if err != nil || !a.row.Put(at.Subject, v, pos) {
		r.in.UnreadAt(pos, at.name, "%s cannot be what stands here", a.row.Name)
	}
}

// offer adds a proposal to what a connection or a child offers.
func (r *run) offer(o *offer, fills []Fill, pos source.Pos, at place) {
	if o.of == "ike" && at.Connection == nil || o.of == "child" && at.Child == nil || o.of == "object" && at.object == nil {
		r.in.ProblemAt(pos, "a proposal belongs to what stands around it, and there is nothing of its kind")
		return
	}
	one := ike.Proposal{Protocol: ike.IKE}
	if o.of == "child" {
		one.Protocol = ike.ESP
	}
	var words []string
	for _, f := range fills {
		for registry, slot := range o.parts {
			c, ok := f.Value.(ike.Choice)
			if f.Slot == slot && ok && !one.Transforms[registry].Has(c) {
				one.Transforms[registry] = append(one.Transforms[registry], c)
				words = append(words, f.Text)
			}
		}
	}
	if len(words) == 0 {
		return
	}
	one.Text = strings.Join(words, " ")
	if o.of == "object" {
		at.object.values = append(at.object.values, one)
		return
	}
	to := &at.Connection.Proposals
	if o.of == "child" {
		to = &at.Child.Proposals
	}
	*to = model.Say(append(slices.Clip(to.Value), one), pos)
}

// Difference is a fact of an example that was not found as it should be.
type Difference struct {
	At          source.Pos // of the example
	Subject     string     // "connection" or "connection/child"
	Setting     string     // "" where the subject is not there
	Want, Found string
}

// String returns the difference in a line.
func (d Difference) String() string {
	if d.Setting == "" {
		return fmt.Sprintf("%s: %s %s", d.At, d.Subject, d.Found)
	}
	return fmt.Sprintf("%s: %s of %s is %s; the example says %s", d.At, d.Setting, d.Subject, d.Found, d.Want)
}

// Test reads the examples and returns what is not found as they say, unread statements among it.
func (b *Book) Test(ctx context.Context) []Difference {
	var out []Difference
	for _, e := range b.Examples {
		f := &model.File{File: source.NewFile("example", []byte(e.Text)), Format: b.Language}
		in := read.NewInput(ctx, "example", nil, f, &read.Folder{Taken: map[string]bool{}})
		b.read(in)
		for _, u := range f.Unread {
			out = append(out, Difference{At: e.At, Subject: fmt.Sprintf("line %d", u.At.Line), Found: "is not understood: " + u.Why})
		}
		for _, p := range in.Gateway.Problems {
			out = append(out, Difference{At: e.At, Subject: fmt.Sprintf("line %d", p.Line), Found: p.Message})
		}
		out = append(out, e.missed(in.Gateway)...)
	}
	return out
}

// missed are the facts that a gateway does not show.
func (e Example) missed(g *model.Gateway) []Difference {
	var out []Difference
	rows := settings.All()
	for _, subject := range slices.Sorted(maps.Keys(e.Facts)) {
		s, ok := find(g, subject)
		if !ok {
			out = append(out, Difference{At: e.At, Subject: subject, Found: "is not there"})
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(e.Facts[subject])) {
			want := e.Facts[subject][name]
			row := settings.Named(rows, name)
			if row == nil {
				out = append(out, Difference{e.At, subject, name, want, "no setting that Toril knows"})
				continue
			}
			if v, has := row.Get(s); !has || v.Text != want && v.Plain != want {
				out = append(out, Difference{e.At, subject, name, want, fmt.Sprintf("%q", v.Text)})
			}
		}
	}
	return out
}

// find returns a connection, or a child of one, by "connection" or "connection/child".
func find(g *model.Gateway, name string) (s settings.Subject, ok bool) {
	for _, c := range g.Connections {
		if c.Name == name {
			return settings.Subject{Connection: c}, true
		}
		for _, k := range c.Children {
			if c.Name+"/"+k.Name == name {
				return settings.Subject{Connection: c, Child: k}, true
			}
		}
	}
	return s, false
}
