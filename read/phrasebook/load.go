package phrasebook

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/daemon"
	"toril/ike"
	"toril/internal/strictyaml"
	"toril/model"
	"toril/model/settings"
	"toril/source"
	"toril/syntax/statements"
)

// loader turns a document into a book. All its errors carry a line.
type loader struct {
	file string
	tree *strictyaml.Tree
	book *Book
	rows []*settings.Row
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

func (l *loader) at(path string) source.Pos {
	return source.Pos{File: l.file, Line: max(1, l.tree.Line(path))}
}

func (l *loader) errorf(path, format string, args ...any) error {
	return source.Errorf(l.at(path), format, args...)
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
	for _, step := range []func() error{
		func() error { return l.syntax(d.Syntax) },
		func() error { return l.order(d.Order) },
		func() error { return l.vocabularies(d.Vocabulary) },
		func() error { return l.chains(d.Chains, d.Lists) },
		func() error { return l.defaults(d.Defaults) },
		func() error { return l.given(d.Given) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	var err error
	if b.rules, err = l.rules(d.Phrases, "$.phrases", 0); err != nil {
		return err
	}
	for i, e := range d.Examples {
		b.Examples = append(b.Examples, Example{e.Text, e.Facts, l.at(fmt.Sprintf("$.examples[%d]", i))})
	}
	l.warn()
	if len(b.Examples) == 0 {
		b.Warnings = append(
			b.Warnings,
			source.Errorf(source.Pos{File: l.file, Line: 1}, "it has no examples: nothing shows that it reads what it should"),
		)
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
	l.book.negates = s.Negates
	l.book.Manner = statements.Manner{Kind: kind, Comments: s.Comments, Quotes: s.Quotes, Escape: s.Escape, Marks: s.Marks, Join: s.Join,
		End: s.End, Enter: s.Enter, Leave: s.Leave, Banners: s.Banners, Clauses: s.Clauses, Macros: s.Macros}
	return nil
}

// warn says which settings that people compare first have no default: connections that do not configure them stay unsure.
func (l *loader) warn() {
	var makes func(rules []*rule) bool
	makes = func(rules []*rule) bool {
		return slices.ContainsFunc(rules, func(r *rule) bool { return r.makes == connection || makes(r.rules) })
	}
	if !makes(l.book.rules) {
		return
	}
	known := []*settings.Row{ // whatever the device
		settings.PFS.Row, settings.OwnIdentity.Row, settings.OwnNetworks.Row, settings.PeerNetworks.Row, settings.OwnAddress.Row,
	}
	var lacks []string
	for _, r := range l.rows {
		parts := slices.ContainsFunc(
			l.book.parts,
			func(d partDefault) bool { return d.of+"-proposals" == r.Name && d.registry == ike.Encryption },
		)
		if r.Main && r.Takes() != nil && l.book.defaults[r.Name] == nil && !parts && !slices.Contains(known, r) {
			lacks = append(lacks, r.Name)
		}
	}
	if len(lacks) > 0 {
		l.book.Warnings = append(
			l.book.Warnings,
			source.Errorf(l.at("$.defaults"), "no default for %s: connections that do not configure "+
				"them stay unsure", strings.Join(lacks, ", ")),
		)
	}
}

// Orders are those in which devices work on a packet, and what each means.
func Orders() map[string]model.Order {
	return map[string]model.Order{
		"destination access source tunnel": {},
		"access destination source tunnel": {AccessFirst: true},
		"destination access tunnel source": {TunnelFirst: true},
		"access destination tunnel source": {AccessFirst: true, TunnelFirst: true},
	}
}

// order reads the order of the four steps. Left out, it is the first of those that there are.
func (l *loader) order(steps []string) error {
	if len(steps) == 0 {
		return nil
	}
	o, err := choice(Orders(), strings.Join(steps, " "))
	if err != nil {
		return l.errorf("$.order", "%v", err)
	}
	l.book.Order = o
	return nil
}

// defaults reads what holds where nothing is configured. Of one setting there may be several, each since a version of its own.
func (l *loader) defaults(in []defaultText) error {
	l.book.defaults = map[string][]assumption{}
	for i, d := range in {
		where := fmt.Sprintf("$.defaults[%d]", i)
		if d.Since != "" && !daemon.IsVersion(d.Since) {
			return l.errorf(where+".since", "%q is not a version", source.Clean(d.Since))
		}
		if d.Source == "" {
			return l.errorf(where, "a default has a source: where it is described")
		}
		if len(d.Offers) > 0 {
			if err := l.partDefaults(d, where); err != nil {
				return err
			}
			continue
		}
		row, err := l.row(d.Set, where+".sets")
		if err != nil {
			return err
		}
		a := assumption{row: row, text: d.Value, since: d.Since}
		if share, other, ok := strings.Cut(d.Value, "% of "); ok {
			of, err := l.row(other, where+".value")
			if err != nil {
				return err
			}
			if a.share, err = strconv.Atoi(share); err != nil || of.Takes() != row.Takes() ||
				row.Takes() != reflect.TypeFor[time.Duration]() ||
				a.share < 1 ||
				a.share > 1000 {
				return l.errorf(where+".value", "%q is no share of a time", source.Clean(d.Value))
			}
			a.other = other
		} else if a.value, err = meant(row.Takes(), d.Value); err != nil {
			return l.errorf(where+".value", "%s: %v", d.Set, err)
		}
		l.book.defaults[d.Set] = append(l.book.defaults[d.Set], a)
	}
	newest := func(a, b string) int {
		if a == "" || b == "" {
			return strings.Compare(b, a)
		}
		return daemon.Compare(b, a)
	}
	for _, all := range l.book.defaults {
		slices.SortStableFunc(all, func(a, b assumption) int { return newest(a.since, b.since) })
	}
	slices.SortStableFunc(l.book.parts, func(a, b partDefault) int { return newest(a.since, b.since) })
	return nil
}

// partDefaults reads what parts of proposals are where others are configured and these are not.
func (l *loader) partDefaults(d defaultText, where string) error {
	of := d.Offers["of"]
	if of != "ike" && of != "child" {
		return l.errorf(where+".offers", "of: ike or child was expected")
	}
	for _, key := range slices.Sorted(maps.Keys(d.Offers)) {
		if key == "of" {
			continue
		}
		r, p, err := l.pick(key, d.Offers[key], where+".offers")
		if err != nil {
			return err
		}
		l.book.parts = append(l.book.parts, partDefault{of, r, p, d.Since})
	}
	return nil
}

// pick reads a part of a proposal that the phrasebook itself says.
func (l *loader) pick(key, text, path string) (r ike.Registry, p pick, err error) {
	r, ok := registries[key]
	switch {
	case !ok:
		return r, p, l.errorf(path, "unknown part of a proposal %q; %s", source.Clean(key),
			strictyaml.Suggest(key, slices.Sorted(maps.Keys(registries))))
	case text == "none":
		p.none = true
	case text == "as-ike" && r == ike.KeyExchange:
		p.asIt = true
	default:
		if p.Choice, err = algorithm(r, text); err != nil {
			return r, p, l.errorf(path, "%s: %v", key, err)
		}
	}
	return r, p, nil
}

// given reads the statements that a device has without saving them.
func (l *loader) given(in []givenText) error {
	for i, g := range in {
		where := fmt.Sprintf("$.given[%d]", i)
		list, bad := statements.Parse([]byte(g.Text), l.book.Manner)
		switch {
		case len(bad) > 0:
			return l.errorf(where+".text", "line %d of it: %s", bad[0].Line, bad[0].Why)
		case g.Since != "" && !daemon.IsVersion(g.Since):
			return l.errorf(where+".since", "%q is not a version", source.Clean(g.Since))
		case g.Source == "":
			return l.errorf(where, "what a device has has a source: where it is described")
		}
		l.book.given = append(l.book.given, given{list, g.Since})
	}
	return nil
}

// row returns the setting of a name that can be set.
func (l *loader) row(name, path string) (*settings.Row, error) {
	if row := settings.Named(name); row != nil && row.Takes() != nil && row != settings.PFS.Row { // that follows from the proposals
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
	"encryption": ike.Encryption, "integrity": ike.Integrity, "prf": ike.PRF, "key-exchange": ike.KeyExchange, "sequence": ike.Sequence,
}

func (l *loader) vocabularies(all map[string]map[string]string) error {
	l.book.vocabulary = all
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if err := l.vocabulary(name, all[name]); err != nil {
			return err
		}
	}
	return nil
}

// vocabulary adds a type: the language's own words for algorithms, by IANA's names, for whole proposals, or for a choice that Toril has
// names for.
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
	literal, ok := literals()[name]
	if !ok {
		known := slices.Concat(slices.Sorted(maps.Keys(literals())), slices.Sorted(maps.Keys(registries)))
		return l.errorf(where, "unknown vocabulary %q; %s", source.Clean(name), strictyaml.Suggest(name, known))
	}
	t, err := literal(name, words, l.book.Fold)
	if err != nil {
		return l.errorf(where, "%v", err)
	}
	l.book.types[name] = t
	return nil
}

// algorithm reads IANA's name of an algorithm, and the size of its key where it has several: "ENCR_AES_CBC 256"; or its number.
func algorithm(r ike.Registry, text string) (ike.Choice, error) {
	name, size := strings.TrimSpace(text), ""
	a := ike.ByName(r, name)
	if a == nil {
		if i := strings.LastIndexByte(name, ' '); i > 0 {
			name, size = strings.TrimSpace(name[:i]), name[i+1:]
			a = ike.ByName(r, name)
		}
	}
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
		return ike.Choice{}, fmt.Errorf("%q is no name of IANA's for it; %s", source.Clean(text), strictyaml.Suggest(name, known))
	}
	c := ike.Choice{Algorithm: a}
	if size != "" {
		n, err := strconv.Atoi(size)
		if err != nil || !slices.Contains(a.Keys, n) {
			return c, fmt.Errorf("%q is no size of a key of %s", source.Clean(size), a.Name)
		}
		c.KeyBits = n
	} else if len(a.Keys) > 0 {
		return c, fmt.Errorf("%s has keys of several sizes: write it as %s %d", a.Name, a.Name, a.Keys[len(a.Keys)-1])
	}
	return c, nil
}

// proposal reads a proposal by IANA's names with "+" between them: "ENCR_AES_CBC 256 + AUTH_HMAC_SHA2_256_128 + 14". A number is that of
// a group.
func proposal(text string) (ike.Proposal, error) {
	p := ike.Proposal{Text: text}
	for part := range strings.SplitSeq(text, "+") {
		part = strings.TrimSpace(part)
		found := false
		order := order
		if _, err := strconv.Atoi(part); err == nil {
			order = []ike.Registry{ike.KeyExchange}
		}
		var first error
		for _, r := range order {
			c, err := algorithm(r, part)
			if err == nil {
				p.Transforms[r], found = append(p.Transforms[r], c), true
				break
			}
			if first == nil || strings.Contains(err.Error(), " key") {
				first = err
			}
		}
		if !found {
			return p, first
		}
	}
	return p, nil
}

// errNoWay says that a value cannot be made of a slot's.
var errNoWay = errors.New("a slot of this type cannot be its value")

// chains reads those of the language.
func (l *loader) chains(in []chainText, lists *listText) error {
	for i, c := range in {
		where := fmt.Sprintf("$.chains[%d]", i)
		if c.Name == "" || slices.ContainsFunc(l.book.chains, func(o chain) bool { return o.name == c.Name }) {
			return l.errorf(where, "a chain has a name of its own")
		}
		hook, err := choice(hooks, c.Hook)
		if err != nil {
			return l.errorf(where+".hook", "%v", err)
		}
		policy, err := choice(actions, c.Policy)
		if err != nil {
			return l.errorf(where+".policy", "%v", err)
		}
		l.book.chains = append(l.book.chains, chain{c.Name, hook, policy, c.Answers})
	}
	if lists != nil {
		end, err := choice(ends, lists.End)
		if err != nil {
			return l.errorf("$.lists.end", "%v", err)
		}
		l.book.lists = &end
	}
	return nil
}
