package phrasebook

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"toril/daemon"
	"toril/ike"
	"toril/internal/strictyaml"
	"toril/model/settings"
	"toril/source"
	"toril/syntax/statements"
)

// Book is a phrasebook that was read: a language, and what its statements mean.
type Book struct {
	Language string // the name of the format
	Title    string // what it is, in a few words
	Files    []string
	Begins   string // a line of every file begins so
	Manner   statements.Manner
	Fold     bool // capitals are the same as small letters
	Examples []Example
	types    Types
	rules    []*rule
	defaults map[string][]assumption // by settings, the newest first
	chains   []chain
}

// assumption is what a language does where a setting is not said.
type assumption struct {
	row   settings.Row
	value any
	text  string
	since string // the first version that does so; "" for all
}

// Example is a text of the language with what is to be found in it.
type Example struct {
	Text  string
	Facts map[string]map[string]string // by "connection" or "connection/child": settings and what they are shown as
	At    source.Pos
}

// rule is a phrase with what its statements mean.
type rule struct {
	phrase *Phrase
	at     source.Pos
	makes  maker
	name   *Slot   // whose value names what is made; nil: what stands around it
	kind   string  // of what has a name
	adds   []*Slot // whose values belong to it
	sets   []assignment
	offers *offer
	tells  *Slot // whose value is the version of what wrote the file
	facts  []*fact
	moot   string // why its statements are of no consequence; "" where they are
	rules  []*rule
}

// maker is what a statement begins.
type maker string

const (
	nothing    maker = ""
	connection maker = "connection"
	childSA    maker = "child"
	named      maker = "object" // networks or proposals that have a name
	port       maker = "interface"
)

// assignment gives a setting the values of slots, or one that the phrasebook says.
type assignment struct {
	row   settings.Row
	slots []*Slot
	value any // where there are no slots
	one   func([]any) (any, error)
}

// offer is a proposal that statements say, or a part of one.
type offer struct {
	of    string // "ike", "child", or "object": to what has a name
	parts map[ike.Registry]*Slot
}

// document is a phrasebook as it is written.
type document struct {
	Language   string                       `yaml:"language"`
	Title      string                       `yaml:"title"`
	Files      []string                     `yaml:"files"`
	Begins     string                       `yaml:"begins"`
	Syntax     syntaxText                   `yaml:"syntax"`
	Vocabulary map[string]map[string]string `yaml:"vocabulary"`
	Defaults   []defaultText                `yaml:"defaults"`
	Chains     []chainText                  `yaml:"chains"`
	Phrases    []ruleText                   `yaml:"phrases"`
	Examples   []exampleText                `yaml:"examples"`
}

type syntaxText struct {
	Kind     string   `yaml:"kind"`
	Comments []string `yaml:"comments"`
	Quotes   string   `yaml:"quotes"`
	Escape   bool     `yaml:"escape"`
	Marks    string   `yaml:"marks"`
	Join     bool     `yaml:"join"`
	End      string   `yaml:"end"`
	Enter    []string `yaml:"enter"`
	Leave    []string `yaml:"leave"`
	Banners  []string `yaml:"banners"`
	Fold     bool     `yaml:"fold"`
}

type chainText struct {
	Name   string `yaml:"name"`
	Hook   string `yaml:"hook"`
	Policy string `yaml:"policy"`
}

type defaultText struct {
	Set    string `yaml:"sets"`
	Value  string `yaml:"value"`
	Since  string `yaml:"since"`
	Source string `yaml:"source"`
}

type ruleText struct {
	Say       string            `yaml:"say"`
	Makes     string            `yaml:"makes"`
	Named     string            `yaml:"named"`
	Kind      string            `yaml:"kind"`
	Adds      string            `yaml:"adds"`
	Set       map[string]string `yaml:"sets"`
	Offers    map[string]string `yaml:"offers"`
	Version   string            `yaml:"version"`
	Interface map[string]string `yaml:"interface"`
	Route     map[string]string `yaml:"route"`
	Key       map[string]string `yaml:"key"`
	Rule      map[string]string `yaml:"rule"`
	Moot      string            `yaml:"moot"`
	Phrases   []ruleText        `yaml:"phrases"`
}

type exampleText struct {
	Text  string                       `yaml:"text"`
	Facts map[string]map[string]string `yaml:"facts"`
}

// loader turns a document into a book. All its errors carry a line.
type loader struct {
	file string
	tree *strictyaml.Tree
	book *Book
	rows []settings.Row
}

// Load reads a phrasebook. Its error is a *source.Error with the line, says what was expected, and where it can, what was meant.
func Load(file string, text []byte) (*Book, error) {
	var d document
	tree, err := strictyaml.Decode(file, text, &d)
	if err != nil {
		return nil, err
	}
	l := &loader{file: file, tree: tree, book: &Book{types: BuiltIn()}, rows: settings.All()}
	return l.book, l.load(d)
}

func (l *loader) errorf(path, format string, args ...any) error {
	return source.Errorf(source.Pos{File: l.file, Line: max(1, l.tree.Line(path))}, format, args...)
}

func (l *loader) load(d document) error {
	b := l.book
	b.Language, b.Title, b.Files, b.Begins, b.Fold = d.Language, d.Title, d.Files, d.Begins, d.Syntax.Fold
	switch {
	case strings.Trim(d.Language, "abcdefghijklmnopqrstuvwxyz0123456789-.") != "" || d.Language == "":
		return l.errorf("$.language", "a language has a name: small letters, digits, hyphens")
	case d.Title == "":
		return l.errorf("$", "a title is missing: what the language is, in a few words")
	case len(d.Phrases) == 0:
		return l.errorf("$", "there are no phrases")
	}
	if err := l.syntax(d.Syntax); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(d.Vocabulary)) {
		if err := l.vocabulary(name, d.Vocabulary[name]); err != nil {
			return err
		}
	}
	if err := l.chains(d.Chains); err != nil {
		return err
	}
	if err := l.defaults(d.Defaults); err != nil {
		return err
	}
	var err error
	if b.rules, err = l.rules(d.Phrases, "$.phrases", 0); err != nil {
		return err
	}
	for i, e := range d.Examples {
		at := source.Pos{File: l.file, Line: max(1, l.tree.Line(fmt.Sprintf("$.examples[%d]", i)))}
		b.Examples = append(b.Examples, Example{e.Text, e.Facts, at})
	}
	return nil
}

func (l *loader) syntax(s syntaxText) error {
	kind := statements.Kind(s.Kind)
	if !slices.Contains(statements.Kinds(), kind) {
		var names []string
		for _, k := range statements.Kinds() {
			names = append(names, string(k))
		}
		return l.errorf("$.syntax.kind", "unknown kind of syntax %q; %s", source.Clean(s.Kind), strictyaml.Suggest(s.Kind, names))
	}
	if len(s.End) > 1 {
		return l.errorf("$.syntax.end", "one character ends a statement")
	}
	l.book.Manner = statements.Manner{Kind: kind, Comments: s.Comments, Quotes: s.Quotes, Escape: s.Escape, Marks: s.Marks, Join: s.Join,
		End: s.End, Enter: s.Enter, Leave: s.Leave, Banners: s.Banners}
	return nil
}

// defaults reads what holds where nothing is said. Of one setting there may be several, each since a version of its own.
func (l *loader) defaults(in []defaultText) error {
	l.book.defaults = map[string][]assumption{}
	for i, d := range in {
		where := fmt.Sprintf("$.defaults[%d]", i)
		row, err := l.row(d.Set, where+".sets")
		if err != nil {
			return err
		}
		v, err := meant(row.Takes(), d.Value)
		if err != nil {
			return l.errorf(where+".value", "%s: %v", d.Set, err)
		}
		if d.Since != "" && !daemon.IsVersion(d.Since) {
			return l.errorf(where+".since", "%q is not a version", source.Clean(d.Since))
		}
		if d.Source == "" {
			return l.errorf(where+".sets", "a default has a source: where it is described")
		}
		l.book.defaults[d.Set] = append(l.book.defaults[d.Set], assumption{*row, v, d.Value, d.Since})
	}
	for _, all := range l.book.defaults {
		slices.SortStableFunc(all, func(a, b assumption) int {
			if a.since == "" || b.since == "" {
				return strings.Compare(b.since, a.since)
			}
			return daemon.Compare(b.since, a.since)
		})
	}
	return nil
}

// row returns the setting of a name that can be set.
func (l *loader) row(name, path string) (*settings.Row, error) {
	if row := settings.Named(l.rows, name); row != nil && row.Takes() != nil {
		return row, nil
	}
	var known []string
	for _, r := range l.rows {
		if r.Takes() != nil {
			known = append(known, r.Name)
		}
	}
	return nil, l.errorf(path, "unknown setting %q; %s", source.Clean(name), strictyaml.Suggest(name, known))
}

// registries are the vocabularies of algorithms.
var registries = map[string]ike.Registry{
	"encryption": ike.Encryption, "integrity": ike.Integrity, "prf": ike.PRF, "key-exchange": ike.KeyExchange,
}

// vocabulary adds a type: the language's own words for algorithms, by IANA's names, or for a choice that Toril has names for.
func (l *loader) vocabulary(name string, words map[string]string) error {
	where := "$.vocabulary." + name
	if l.book.types[name] != nil {
		return l.errorf(where, "%q is a type already", source.Clean(name))
	}
	if r, ok := registries[name]; ok {
		means := map[string]ike.Choice{}
		for w, text := range words {
			c, err := algorithm(r, text)
			if err != nil {
				return l.errorf(where+"."+w, "%v", err)
			}
			means[w] = c
		}
		l.book.types[name] = Vocabulary(name, "an algorithm by the language's own words", means, l.book.Fold)
		return nil
	}
	literal, ok := literals[name]
	if !ok {
		known := slices.Concat(slices.Sorted(maps.Keys(literals)), slices.Sorted(maps.Keys(registries)))
		return l.errorf(where, "unknown vocabulary %q; %s", source.Clean(name), strictyaml.Suggest(name, known))
	}
	t, err := literal(name, words, l.book.Fold)
	if err != nil {
		return l.errorf(where, "%v", err)
	}
	l.book.types[name] = t
	return nil
}

// algorithm reads IANA's name of an algorithm, and the size of its key where it has several: "ENCR_AES_CBC 256".
func algorithm(r ike.Registry, text string) (ike.Choice, error) {
	name, size, sized := strings.Cut(strings.TrimSpace(text), " ")
	a := ike.ByName(r, name)
	if n, err := strconv.ParseUint(name, 10, 16); err == nil && a == nil && ike.ByID(r, uint16(n)).Known() {
		a = ike.ByID(r, uint16(n))
	}
	if a == nil {
		var known []string
		for _, k := range ike.Catalogue {
			if k.Registry == r {
				known = append(known, k.Name)
			}
		}
		return ike.Choice{}, fmt.Errorf("%q is no name of IANA's for it; %s", source.Clean(name), strictyaml.Suggest(name, known))
	}
	c := ike.Choice{Algorithm: a}
	if sized {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil || !slices.Contains(a.Keys, n) {
			return c, fmt.Errorf("%q is no size of a key of %s", source.Clean(size), a.Name)
		}
		c.KeyBits = n
	} else if len(a.Keys) > 0 {
		return c, fmt.Errorf("%s has keys of several sizes: write it as %s %d", a.Name, a.Name, a.Keys[len(a.Keys)-1])
	}
	return c, nil
}

// rules reads the phrases of one place.
func (l *loader) rules(in []ruleText, path string, depth int) ([]*rule, error) {
	if depth > statements.MaxDepth {
		return nil, l.errorf(path, "phrases stand in each other more than %d deep", statements.MaxDepth)
	}
	var out []*rule
	for i, text := range in {
		r, err := l.rule(text, fmt.Sprintf("%s[%d]", path, i), depth)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// rule reads one phrase with what it means.
func (l *loader) rule(text ruleText, path string, depth int) (*rule, error) {
	p, err := ParsePhrase(text.Say, l.book.types)
	if err != nil {
		return nil, l.errorf(path+".say", "%v", err)
	}
	r := &rule{phrase: p, at: source.Pos{File: l.file, Line: l.tree.Line(path + ".say")}, makes: maker(text.Makes), moot: text.Moot}
	if err := l.making(r, text, path); err != nil {
		return nil, err
	}
	if text.Version != "" {
		if r.tells, err = l.slot(p, text.Version, path+".version"); err != nil {
			return nil, err
		}
	}
	if r.moot != "" && (len(text.Set) > 0 || len(text.Offers) > 0 || r.makes != nothing) {
		return nil, l.errorf(path+".moot", "a statement of no consequence sets nothing")
	}
	for _, name := range slices.Sorted(maps.Keys(text.Set)) {
		a, err := l.assignment(p, name, text.Set[name], path+".sets")
		if err != nil {
			return nil, err
		}
		r.sets = append(r.sets, a)
	}
	if len(text.Offers) > 0 {
		if r.offers, err = l.offer(p, text.Offers, path+".offers"); err != nil {
			return nil, err
		}
	}
	said := map[string]map[string]string{"interface": text.Interface, "route": text.Route, "key": text.Key, "rule": text.Rule}
	for _, what := range slices.Sorted(maps.Keys(said)) {
		if len(said[what]) == 0 {
			continue
		}
		f, err := l.fact(p, what, said[what], path+"."+what)
		if err != nil {
			return nil, err
		}
		r.facts = append(r.facts, f)
	}
	if r.rules, err = l.rules(text.Phrases, path+".phrases", depth+1); err != nil {
		return nil, err
	}
	if r.empty() {
		return nil, l.errorf(path+".say", "the phrase means nothing: it sets, offers, adds, makes or says something, or is moot")
	}
	return r, nil
}

// making reads what a statement begins, and what it adds to what stands around it.
func (l *loader) making(r *rule, text ruleText, path string) error {
	switch r.makes {
	case nothing, connection, childSA, port:
	case named:
		if r.kind = text.Kind; r.kind != networks && r.kind != proposals {
			return l.errorf(path+".kind", "an object is of a kind: %s or %s", networks, proposals)
		}
		if text.Named == "" {
			return l.errorf(path+".makes", "an object has a name: named: <slot>")
		}
	default:
		return l.errorf(path+".makes", "unknown thing %q; %s", source.Clean(text.Makes),
			strictyaml.Suggest(text.Makes, []string{string(connection), string(childSA), string(named), string(port)}))
	}
	for word := range strings.FieldsSeq(text.Adds) {
		s, err := l.slot(r.phrase, word, path+".adds")
		if err != nil {
			return err
		}
		if !slices.Contains(lists[reflect.TypeFor[ike.Selectors]()].types, s.Type.Name) {
			return l.errorf(path+".adds", "slot %s is of type %s, which is no network", s.Name, s.Type.Name)
		}
		r.adds = append(r.adds, s)
	}
	if text.Named != "" {
		s, err := l.slot(r.phrase, text.Named, path+".named")
		if err != nil {
			return err
		}
		r.name = s
	}
	return nil
}

// empty reports whether the phrase means nothing at all.
func (r *rule) empty() bool {
	return r.moot == "" && len(r.sets) == 0 && r.offers == nil && r.makes == nothing && len(r.rules) == 0 && len(r.adds) == 0 &&
		r.tells == nil && len(r.facts) == 0
}

// slot returns the slot of a phrase that "<name>" means.
func (l *loader) slot(p *Phrase, text, path string) (*Slot, error) {
	name, ok := strings.CutPrefix(text, "<")
	name, closed := strings.CutSuffix(name, ">")
	if !ok || !closed {
		return nil, l.errorf(path, "a slot was expected, as <name>")
	}
	if s := p.Slot(name); s != nil {
		return s, nil
	}
	known := slices.Sorted(maps.Keys(p.slots))
	return nil, l.errorf(path, "the phrase has no slot %q; %s", source.Clean(name), strictyaml.Suggest(name, known))
}

// assignment reads "setting: <slot> <slot>" or "setting: value".
func (l *loader) assignment(p *Phrase, name, text, path string) (assignment, error) {
	var a assignment
	row, err := l.row(name, path)
	if err != nil {
		return a, err
	}
	a.row = *row
	if !strings.HasPrefix(text, "<") {
		v, err := meant(row.Takes(), text)
		if err != nil {
			return a, l.errorf(path, "%s: %v", name, err)
		}
		a.value = v
		return a, nil
	}
	for word := range strings.FieldsSeq(text) {
		s, err := l.slot(p, word, path)
		if err != nil {
			return a, err
		}
		a.slots = append(a.slots, s)
	}
	if a.one, err = converter(row.Takes(), a.slots); err != nil {
		return a, l.errorf(path, "%s: %v", name, err)
	}
	return a, nil
}

// offer reads which slots are which parts of a proposal.
func (l *loader) offer(p *Phrase, text map[string]string, path string) (*offer, error) {
	o := &offer{of: text["of"], parts: map[ike.Registry]*Slot{}}
	if o.of != "ike" && o.of != "child" && o.of != "object" {
		return nil, l.errorf(path, "of: ike, child or object was expected")
	}
	for _, key := range slices.Sorted(maps.Keys(text)) {
		if key == "of" {
			continue
		}
		r, ok := registries[key]
		if !ok {
			return nil, l.errorf(path, "unknown part of a proposal %q; %s", source.Clean(key),
				strictyaml.Suggest(key, slices.Sorted(maps.Keys(registries))))
		}
		s, err := l.slot(p, text[key], path)
		if err != nil {
			return nil, err
		}
		if t := s.Type.Name; t != key && !(t == "group" && key == "key-exchange") {
			return nil, l.errorf(path, "slot %s is of type %s, not %s", s.Name, t, key)
		}
		o.parts[r] = s
	}
	if len(o.parts) == 0 {
		return nil, l.errorf(path, "it has no part of a proposal")
	}
	return o, nil
}

var errNoWay = errors.New("a slot of this type cannot be its value")
