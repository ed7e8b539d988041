package phrasebook

import (
	"fmt"
	"slices"
	"strings"

	"toril/daemon"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/source"
	"toril/syntax/statements"
)

// run is one file on its way through a book.
type run struct {
	book    *Book
	in      *read.Input
	rows    []*settings.Row
	matcher matcher
	version string // of what wrote the file; "" where it does not say
	given   bool   // statements are those that a device has without their being saved

	// what statements make, while they are gone through
	of          map[*model.Connection]*parts
	connections map[string]*model.Connection
	order       []*object
	records     []*record
	called      map[recordKey]*record
	paths       map[pathKey]int // of statements that others stand in
	bound       []binding       // tunnel interfaces
	borrowed    []borrowed      // interfaces that use the addresses of others

	// what waits until all of them were seen
	pending []func() // settings of named objects, applied where they are referred to
	queue   [lastLevel + 1][]func()
	said    map[sayKey]*said
	lists   []*said // of the level that is at work
	assumed map[sayKey]bool
	after   []func()                    // what needs all settings
	ports   map[string]*model.Interface // by name
	chains  map[string][]numbered       // rules by the names of their chains
	names   []string                    // of the chains, in the order in which they come

	// bounds, and what Try wants to know
	spent, referred int
	why             map[string]string // whose defaults are, by setting
	traced          bool
	missed          []Miss
	means           map[int][]string // what statements say, by line
}

// pathKey is a statement that others stand in, with the path of the one that it stands in.
type pathKey struct {
	outer int
	words string
}

// path numbers the statements around, so that what has a name is known by its place.
func (r *run) path(outer int, st *statements.Statement) int {
	key := pathKey{outer, wordsOf(st.Words)}
	if r.paths[key] == 0 {
		r.paths[key] = len(r.paths) + 1
	}
	return r.paths[key]
}

// parts are what is said in pieces of a connection and its children.
type parts struct {
	children map[string]*model.Child
	whole    map[any]*assembly // of the proposals of the connection, or of a child
	disabled bool
	implied  bool // only children that say that they belong to it tell of it
}

// place is where statements stand: what they are about, and which phrases are known there.
type place struct {
	settings.Subject
	object   *object
	port     *model.Interface
	protocol *model.RoutingProtocol
	record   *record
	held     map[string]map[string][]any // parts that hold for the records that are made here
	scope    *scope
	rules    []*rule
	name     string // what an unread statement may change
	path     int    // the statements around, by number
	title    string // the first word of the statement that named what stands around
}

// act is what a statement of named settings does where they are used.
type act func(at place, level level, used source.Pos)

func (b *Book) read(in *read.Input) { b.run(in).read() }

// run makes the way of one file through the book.
func (b *Book) run(in *read.Input) *run {
	return &run{book: b, in: in, rows: settings.All(), of: map[*model.Connection]*parts{},
		called: map[recordKey]*record{}, paths: map[pathKey]int{}, chains: map[string][]numbered{},
		assumed: map[sayKey]bool{}, said: map[sayKey]*said{}}
}

func (r *run) read() {
	b, in := r.book, r.in
	for _, v := range in.Gateway.Versions {
		if v.Software == b.Language {
			r.version = v.Number
		}
	}
	list, bad := statements.Parse(in.File.Bytes(), b.Manner)
	for _, x := range bad {
		in.Lost(in.At(x.Line), "%s", x.Why)
	}
	root := place{rules: b.rules, scope: &scope{}}
	if len(b.given) > 0 {
		if slices.ContainsFunc(b.given, func(g given) bool { return g.since != "" }) {
			r.tellVersion(list, b.rules)
		}
		r.given = true
		for _, g := range b.given {
			if r.version == "" || g.since == "" || daemon.Compare(r.version, g.since) >= 0 {
				r.statements(g.list, root)
			}
		}
		r.given = false
	}
	r.statements(list, root)
	in.Gateway.Order = b.Order
	r.finish()
}

// finish does what had to wait until every statement was seen.
func (r *run) finish() {
	g := r.in.Gateway
	r.interfaces()
	for _, c := range g.Connections {
		if len(c.Children) == 0 {
			r.child(c, c.Name, c.At)
		}
	}
	for _, do := range r.pending {
		do()
	}
	for _, level := range r.queue {
		for _, do := range level {
			do()
		}
		r.putLevel()
	}
	for _, do := range r.after {
		do()
	}
	r.bind()
	for _, rec := range r.records {
		r.complete(rec)
	}
	r.handOver()
	r.tell()
	r.definitions()
	for _, c := range g.Connections {
		r.assemble(c)
		c.Doubts.Add(r.assume(settings.Subject{Connection: c}, settings.OfConnection, c.At)...)
		for _, k := range c.Children {
			k.Doubts.Add(r.assume(settings.Subject{Connection: c, Child: k}, settings.OfChild, k.At)...)
			k.OpensHost = k.Opens
			k.HostToHost = k.Local.Value.Dynamic() && k.Remote.Value.Dynamic()
		}
	}
	g.Connections = slices.DeleteFunc(g.Connections, func(c *model.Connection) bool {
		if r.of[c].implied {
			r.unreadAt(c.At, read.Owner{Topic: model.AboutIKE}, "the connection %s is not there", c.Name)
			return true
		}
		if r.of[c].disabled {
			g.Unloaded = append(g.Unloaded, c)
		}
		return r.of[c].disabled
	})
}

// tell says how much of the device the file tells: a saved configuration is all of it.
func (r *run) tell() {
	g := r.in.Gateway
	told := &g.Told
	told.IKE = told.IKE || len(g.Connections) > 0
	told.Filter4, told.Filter6 = told.Filter4 || len(r.book.chains) > 0, told.Filter6 || len(r.book.chains) > 0
	if len(g.Interfaces) > 0 {
		told.Addresses, told.Routes, told.Rules, told.Tables = model.Wholly, model.Wholly, true, true
	}
}

// tellVersion looks for the version of what wrote the file, before anything depends on it.
func (r *run) tellVersion(list []*statements.Statement, rules []*rule) {
	for _, st := range list {
		for _, rule := range rules {
			if !rule.tellsWithin() || len(st.Words) == 0 {
				continue
			}
			if fills, _, ok := rule.phrase.Match(st.Words, r.book.Fold); ok {
				for _, f := range fills {
					if rule.tells != nil && f.Slot == rule.tells && daemon.IsVersion(f.Text) {
						r.version = f.Text
					}
				}
				r.tellVersion(st.Nested, rule.rules)
				break
			}
		}
	}
}

// unreadAt is Input.UnreadAt, but for what a device has without its being saved.
func (r *run) unreadAt(pos source.Pos, of read.Owner, format string, args ...any) {
	if !pos.IsZero() {
		r.in.Unread(pos, of, format, args...)
	}
}

// owner is what a statement at a place belongs to. One of an interface may say in which zone it is, and so which rules it meets.
func (at place) owner() read.Owner {
	switch {
	case at.record != nil:
		return read.Owner{Name: at.name, To: &at.record.doubts}
	case at.object != nil:
		return read.Owner{Name: at.object.name, To: &at.object.doubts}
	case at.Child != nil:
		return read.Owner{Name: at.Connection.Name + "/" + at.Child.Name, To: &at.Child.Doubts}
	case at.Connection != nil:
		return read.Owner{Name: at.Connection.Name, To: &at.Connection.Doubts}
	case at.protocol != nil:
		return read.Owner{Name: at.protocol.Name, To: &at.protocol.Doubts}
	case at.port != nil:
		return read.Owner{Name: at.port.Name, Topic: model.AboutNetwork | model.AboutFilter}
	}
	return read.Owner{Name: at.name}
}

func (r *run) pos(st *statements.Statement) source.Pos {
	if r.given {
		return source.Pos{}
	}
	return r.in.Pos(st.Place)
}

func (r *run) statements(list []*statements.Statement, at place) {
	list = r.withdrawn(list)
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

// negated reports whether a statement begins with a word that turns it into its opposite.
func (r *run) negated(st *statements.Statement) bool {
	return len(st.Words) > 1 && !st.Words[0].Quoted && slices.Contains(r.book.negates, st.Words[0].Text)
}

// withdrawn leaves out statements that a later one beside them takes back in the same words, with that one.
func (r *run) withdrawn(list []*statements.Statement) []*statements.Statement {
	if len(r.book.negates) == 0 || !slices.ContainsFunc(list, r.negated) {
		return list
	}
	standing := map[string][]int{}
	gone := map[int]bool{}
	for i, st := range list {
		if !r.negated(st) {
			key := wordsOf(st.Words)
			standing[key] = append(standing[key], i)
			continue
		}
		key := wordsOf(st.Words[1:])
		if before := standing[key]; len(before) > 0 {
			for _, k := range before {
				gone[k] = true
			}
			gone[i] = true
			delete(standing, key)
			r.in.Count()
		}
	}
	var out []*statements.Statement
	for i, st := range list {
		if !gone[i] {
			out = append(out, st)
		}
	}
	return out
}

// wordsOf is a statement's words as one text.
func wordsOf(words []statements.Word) string {
	var b []byte
	for _, w := range words {
		b = fmt.Appendf(b, "%q ", w.Text)
	}
	return string(b)
}

// maxWords bounds the statements that are looked at: longer ones are not understood.
const maxWords = 50_000

// statement finds the first phrase that a statement fits, and does what it says. One that fits none is unread, with all that stands in it.
func (r *run) statement(st *statements.Statement, at place) {
	if at.title != "" && st.Words[0].Text == at.title && len(st.Words) == 2 && len(st.Nested) == 0 {
		r.in.Count()
		return
	}
	if len(st.Words) > maxWords {
		r.miss(st, at, fmt.Sprintf("a statement of more than %d words", maxWords))
		r.unread(st.Nested, at)
		return
	}
	rule, fills, nearest, best := r.match(st.Words, at.rules)
	if rule != nil {
		r.in.Count()
		r.apply(rule, st, fills, at)
		return
	}
	if r.negated(st) {
		if rule, fills, _, _ := r.match(st.Words[1:], at.rules); rule != nil {
			if opposite := rule.opposite(); opposite != nil {
				r.in.Count()
				r.apply(opposite, st, fills, at)
				return
			}
			r.miss(st, at, fmt.Sprintf("it negates %q, and the phrasebook does not say what that means", rule.phrase))
			r.unread(st.Nested, at)
			return
		}
	}
	why := unlike
	switch {
	case nearest != nil && best.Why != "":
		why = fmt.Sprintf("it is like %q, but %s", nearest.phrase, best.Why)
	case nearest != nil:
		why = fmt.Sprintf("it is like %q, up to word %d", nearest.phrase, best.Words)
	}
	if !r.given {
		r.miss(st, at, why)
	}
	r.unread(st.Nested, at)
}

// Why a statement is not understood, where no phrase is near it.
const (
	unlike = "no phrase is like it"
	within = "it stands in a statement that was not understood"
)

// miss says of a statement that it is not understood.
func (r *run) miss(st *statements.Statement, at place, why string) {
	of := at.owner()
	of.Harmless = why == within // what it stands in makes unsure what it may change
	r.unreadAt(r.in.Pos(st.Place), of, "%s", why)
	if r.traced {
		like := why != unlike && why != within
		r.missed = append(r.missed, Miss{st.Words, st.Line, at.name, why, like})
	}
}

// match returns the first phrase that words fit; where none does, the nearest.
func (r *run) match(words []statements.Word, rules []*rule) (fit *rule, fills []Fill, nearest *rule, best Near) {
	for _, rule := range rules {
		if !rule.mayBegin(words[0].Text, r.book.Fold) || !rule.phrase.takes(len(words)) {
			continue
		}
		if fills, _, ok := r.matcher.match(rule.phrase, words, r.book.Fold, false); ok {
			return rule, fills, nil, best
		}
	}
	for _, rule := range rules {
		if !rule.mayBegin(words[0].Text, r.book.Fold) {
			continue
		}
		_, near, _ := r.matcher.match(rule.phrase, words, r.book.Fold, true)
		if near.Words > best.Words || nearest == nil && (near.Words > 0 || near.Why != "") {
			best, nearest = near, rule
		}
	}
	return nil, nil, nearest, best
}

// tellsWithin reports whether the phrase, or one that stands in it, tells the version.
func (r *rule) tellsWithin() bool {
	return r.tells != nil || slices.ContainsFunc(r.rules, (*rule).tellsWithin)
}

// opposite is what the negated statement means: what the phrasebook says, or flags that are off; nil where neither tells.
func (r *rule) opposite() *rule {
	if r.not != nil {
		return r.not
	}
	if r.moot != "" {
		return r
	}
	if len(r.sets) == 0 || r.makes != nothing || r.offers != nil || r.parts != nil || len(r.facts)+len(r.adds)+len(r.uses) > 0 {
		return nil
	}
	o := &rule{phrase: r.phrase}
	for _, a := range r.sets {
		on, flag := a.value.(bool)
		if !flag {
			return nil
		}
		a.value = !on
		o.sets = append(o.sets, a)
	}
	return o
}

// unread says of statements within one that was not understood that they are not either.
func (r *run) unread(list []*statements.Statement, at place) {
	if r.given {
		return
	}
	for _, st := range list {
		if len(st.Words) > 0 {
			r.miss(st, at, within)
		}
		r.unread(st.Nested, at)
	}
}

// told notes what a statement says beside what it does: secrets, which no quote shows, and the version of what wrote the file.
func (r *run) told(rule *rule, fills []Fill, pos source.Pos, at place) {
	for _, f := range fills {
		if s, secret := f.Value.(source.Secret); secret && !r.given {
			r.in.File.Hide(f.At.Line, s.Reveal())
		}
		switch {
		case rule.tells == nil || f.Slot != rule.tells:
		case daemon.IsVersion(f.Text):
			r.version = f.Text
		default:
			r.unreadAt(pos, read.Owner{}, "%q is not a version", f.Text)
		}
	}
}

// apply does what a statement says.
func (r *run) apply(rule *rule, st *statements.Statement, fills []Fill, at place) {
	pos := r.pos(st)
	r.told(rule, fills, pos, at)
	if rule.moot != "" {
		return
	}
	if r.traced && !r.given {
		r.trace(rule, fills, st.Line)
	}
	in := r.make(rule, st, fills, pos, at)
	for _, s := range rule.adds {
		for _, f := range fills {
			if f.Slot == s && in.object != nil {
				in.object.values = append(in.object.values, f.Value)
			}
		}
	}
	if len(rule.adds) > 0 && in.object == nil {
		r.problem(pos, "it adds to an object, and there is none around it")
	}
	profile := in.object != nil && in.object.kind == profiles
	for _, f := range rule.facts {
		if profile { // it holds for whoever uses the settings
			in.object.values = append(in.object.values, act(func(at place, _ level, used source.Pos) {
				if pos.IsZero() {
					r.say(f, fills, used, at, rule)
					return
				}
				r.say(f, fills, pos, at, rule)
			}))
			continue
		}
		in = r.say(f, fills, pos, in, rule)
	}
	does := func(at place, level level, used source.Pos) {
		if pos.IsZero() { // the device has it without its being saved: the use of it is what is saved
			r.assign(rule, fills, used, at, level)
			return
		}
		r.assign(rule, fills, pos, at, level)
	}
	switch {
	case profile:
		in.object.values = append(in.object.values, act(does))
		for _, ref := range used(rule, fills) {
			in.object.values = append(in.object.values, ref)
		}
	default:
		for _, ref := range used(rule, fills) {
			r.pending = append(r.pending, func() { r.use(ref, pos, in) })
		}
		does(in, direct, pos)
	}
	if len(st.Nested) > 0 {
		in.rules, in.path = rule.rules, r.path(in.path, st)
		if rule.title == "" {
			in.title = ""
		}
		in.scope = &scope{outer: in.scope}
		r.statements(st.Nested, in)
	}
}

// trace notes what a statement says.
func (r *run) trace(rule *rule, fills []Fill, line int) {
	if r.means == nil {
		r.means = map[int][]string{}
	}
	add := func(what string, slots ...*Slot) {
		if len(slots) == 0 || slices.ContainsFunc(fills, func(f Fill) bool { return slices.Contains(slots, f.Slot) }) {
			r.means[line] = append(r.means[line], what)
		}
	}
	for _, a := range rule.sets {
		name := a.row.Name
		for _, s := range a.slots {
			if _, timed := s.Type.span(); timed {
				name += "/" + s.Type.Name
			}
		}
		add(name, a.slots...)
	}
	for _, s := range rule.adds {
		add("network", s)
	}
	for _, s := range rule.uses {
		add("uses", s)
	}
	for _, o := range []*offer{rule.offers, rule.parts} {
		if o == nil {
			continue
		}
		for name, reg := range registries {
			if s := o.slots[reg]; s != nil {
				add(o.of+"."+name, s)
			}
		}
	}
	for _, f := range rule.facts {
		for part, slots := range f.slots {
			add(f.what+"."+part, slots...)
		}
	}
}

// used are the names of settings that hold where the statement stands.
func used(rule *rule, fills []Fill) (out []reference) {
	for _, f := range fills {
		if ref, ok := f.Value.(reference); ok && slices.Contains(rule.uses, f.Slot) {
			out = append(out, ref)
		}
	}
	return out
}

// use has named settings hold at a place.
func (r *run) use(ref reference, pos source.Pos, at place) {
	acts := r.named(ref, pos, at)
	if !r.spend(len(acts), pos, at) {
		return
	}
	for _, v := range acts {
		if do, ok := v.(act); ok {
			do(at, inherited, pos)
		}
	}
}

func (r *run) problem(pos source.Pos, format string, args ...any) {
	if !pos.IsZero() {
		r.in.Problemf(pos, format, args...)
	}
}

// make returns what the statement is about: what it begins, by its name, made where it is not known yet, or what stands around it.
func (r *run) make(rule *rule, st *statements.Statement, fills []Fill, pos source.Pos, at place) place {
	name := rule.nameOf(st, fills)
	if rule.title != "" {
		at.title = rule.title
	}
	switch rule.makes {
	case connection:
		at.Connection, at.Child, at.object, at.record = r.connection(name, pos), nil, nil, nil
		if of := r.of[at.Connection]; of.implied {
			of.implied, at.Connection.At = false, pos
		}
		at.name = at.Connection.Name
	case childSA:
		for _, f := range fills {
			if rule.of != nil && f.Slot == rule.of {
				_, known := r.connections[f.Text]
				at.Connection = r.connection(f.Text, pos)
				at.name = at.Connection.Name
				r.of[at.Connection].implied = r.of[at.Connection].implied || !known
			}
		}
		if at.Connection == nil {
			r.problem(pos, "a child stands in a connection, and there is none around it")
			return at
		}
		at.Child = r.child(at.Connection, name, pos)
	case port:
		at.port = r.in.Gateway.InterfaceOf(name, pos)
	case protocol:
		at.protocol = &model.RoutingProtocol{Name: rule.kind, Instance: source.Clean(name), At: pos}
		r.in.Gateway.Protocols = append(r.in.Gateway.Protocols, at.protocol)
	case named:
		at.object, at.name = r.define(rule, name, pos, at), ""
	case access, nat, path, secret:
		at.record = r.record(string(rule.makes), name, pos, at)
	}
	return at
}

// nameOf is the name of what a statement begins: the values of slots, or the second word of the statement within that tells it.
func (r *rule) nameOf(st *statements.Statement, fills []Fill) string {
	if r.title != "" {
		for _, in := range st.Nested {
			if len(in.Words) > 1 && in.Words[0].Text == r.title {
				return source.Clean(in.Words[1].Text)
			}
		}
		return ""
	}
	var all []string
	for _, s := range r.names {
		for _, f := range fills {
			if f.Slot == s {
				all = append(all, f.Text)
			}
		}
	}
	return strings.Join(all, " to ")
}

// connection returns the connection of a name, made where it is not known yet.
func (r *run) connection(name string, pos source.Pos) *model.Connection {
	g := r.in.Gateway
	if name == "" {
		name = fmt.Sprintf("connection%d", len(g.Connections)+1)
	}
	if c := r.connections[name]; c != nil {
		return c
	}
	c := &model.Connection{Name: name, At: pos}
	r.of[c] = &parts{children: map[string]*model.Child{}, whole: map[any]*assembly{}}
	if r.connections == nil {
		r.connections = map[string]*model.Connection{}
	}
	r.connections[name] = c
	g.Connections = append(g.Connections, c)
	return c
}

// child returns the child of a name, made where it is not known yet.
func (r *run) child(c *model.Connection, name string, pos source.Pos) *model.Child {
	of := r.of[c]
	if name == "" {
		name = fmt.Sprintf("child%d", len(c.Children)+1)
	}
	if of.children[name] == nil {
		of.children[name] = newChild(name, pos, r.book.Title)
		c.Children = append(c.Children, of.children[name])
	}
	return of.children[name]
}
