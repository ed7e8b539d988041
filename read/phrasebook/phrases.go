package phrasebook

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/internal/strictyaml"
	"toril/source"
	"toril/syntax/statements"
)

// rules reads the phrases of one place. around are the facts of which statements that stand around may say parts.
func (l *loader) rules(in []ruleText, path string, depth int, around ...string) ([]*rule, error) {
	if depth > statements.MaxDepth {
		return nil, l.errorf(path, "phrases stand in each other more than %d deep", statements.MaxDepth)
	}
	var out []*rule
	for i, text := range in {
		r, err := l.rule(text, fmt.Sprintf("%s[%d]", path, i), depth, around)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// rule reads one phrase with what it means.
func (l *loader) rule(text ruleText, path string, depth int, around []string) (*rule, error) {
	p, err := ParsePhrase(text.Say, l.book.types, l.book.Fold)
	if err != nil {
		return nil, l.errorf(path+".say", "%v", err)
	}
	r, err := l.meaning(p, text, path, depth, around)
	if err != nil {
		return nil, err
	}
	r.first = p.first(l.book.Fold)
	if spare := r.unused(); spare != "" {
		return nil, l.errorf(
			path+".say",
			"nothing is done with slot %s; <_:%s> says that its value is of no consequence",
			spare,
			p.slots[spare].Type.Name,
		)
	}
	if r.empty() {
		return nil, l.errorf(path+".say", "the phrase means nothing: it sets, offers, adds, makes or says something, or is moot")
	}
	return r, nil
}

// meaning reads what the statements of a phrase mean.
func (l *loader) meaning(p *Phrase, text ruleText, path string, depth int, around []string) (*rule, error) {
	r := &rule{phrase: p, makes: maker(text.Makes), moot: text.Moot, local: text.Local}
	err := l.making(r, text, path)
	if err != nil {
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
	if len(text.Parts) > 0 {
		if r.parts, err = l.offer(p, text.Parts, path+".parts"); err != nil {
			return nil, err
		}
	}
	said := text.facts()
	for _, what := range slices.Sorted(maps.Keys(said)) {
		f, err := l.fact(p, what, said[what], path+"."+what)
		if err != nil {
			return nil, err
		}
		if lacks := f.lacks(); len(lacks) > 0 && string(r.makes) != what && len(text.Phrases) == 0 && !slices.Contains(around, what) {
			return nil, l.errorf(path+"."+what, "%s has no %s", what, strings.Join(lacks, ", "))
		}
		r.facts = append(r.facts, f)
	}
	if text.Not != nil {
		if text.Not.Say != "" {
			return nil, l.errorf(path+".not", "what a negated statement means has no form of its own")
		}
		if r.not, err = l.meaning(p, *text.Not, path+".not", depth+1, around); err != nil {
			return nil, err
		}
	}
	around = append(slices.Clip(around), string(r.makes))
	for what := range said {
		around = append(around, what)
	}
	r.rules, err = l.rules(text.Phrases, path+".phrases", depth+1, around...)
	return r, err
}

// facts are what a phrase says of a gateway beside settings.
func (text ruleText) facts() map[string]map[string]string {
	all := map[string]map[string]string{
		"interface": text.Interface, "route": text.Route, "key": text.Key, "rule": text.Rule, "translation": text.Translation,
		"service": text.Service, "routing": text.Routing, "connection": text.Connection, "child": text.Child, "status": text.Status,
	}
	maps.DeleteFunc(all, func(_ string, parts map[string]string) bool { return len(parts) == 0 })
	return all
}

// kinds are those of objects, with the types of slots that belong to each.
var kinds = map[string][]string{
	networks:   places,
	proposals:  {proposals, suite},
	services:   {services},
	interfaces: {"word", "interface", interfaces},
	profiles:   nil,
}

// making reads what a statement begins, and what it adds to what stands around it.
func (l *loader) making(r *rule, text ruleText, path string) error {
	r.kind = text.Kind
	if r.makes != nothing && !slices.Contains(makers, r.makes) {
		var known []string
		for _, m := range makers {
			known = append(known, string(m))
		}
		return l.errorf(path+".makes", "unknown thing %q; %s", source.Clean(text.Makes), strictyaml.Suggest(text.Makes, known))
	}
	if r.makes == named {
		if _, ok := kinds[r.kind]; !ok {
			return l.errorf(path+".kind", "an object is of a kind: %s", strings.Join(slices.Sorted(maps.Keys(kinds)), ", "))
		}
		if text.Named == "" {
			return l.errorf(path+".makes", "an object has a name: named: <slot>")
		}
	}
	if r.makes == protocol && r.kind == "" {
		return l.errorf(path+".kind", "a routing protocol has a kind: its name, as ospf or bgp")
	}
	if r.again = text.Again; r.again != "" && !slices.Contains([]string{addsToIt, replacesIt, isIgnored}, r.again) {
		return l.errorf(path+".again", "a second object adds, replaces, or is ignored")
	}
	for _, of := range []struct {
		text, key string
		types     []string
		slots     *[]*Slot
	}{{text.Adds, ".adds", nil, &r.adds}, {text.Uses, ".uses", []string{profiles}, &r.uses}} {
		for word := range strings.FieldsSeq(of.text) {
			s, err := l.slot(r.phrase, word, path+of.key)
			if err != nil {
				return err
			}
			if of.types == nil && !slices.ContainsFunc(slices.Collect(maps.Values(kinds)), func(ts []string) bool {
				return slices.Contains(ts, s.Type.Name)
			}) || of.types != nil && !slices.Contains(of.types, s.Type.Name) {
				return l.errorf(path+of.key, "slot %s is of type %s, which does not belong there", s.Name, s.Type.Name)
			}
			*of.slots = append(*of.slots, s)
		}
	}
	if text.Of != "" {
		s, err := l.slot(r.phrase, text.Of, path+".of")
		if err != nil {
			return err
		}
		r.of = s
	}
	if text.Named != "" && !strings.Contains(text.Named, "<") {
		r.title = text.Named
		return nil
	}
	for word := range strings.FieldsSeq(text.Named) {
		s, err := l.slot(r.phrase, word, path+".named")
		if err != nil {
			return err
		}
		r.names = append(r.names, s)
	}
	return nil
}

// unused returns the first slot of the phrase whose value nothing is done with; "" where there is none.
func (r *rule) unused() string {
	if r.moot != "" {
		return ""
	}
	used := map[*Slot]bool{}
	r.values(used)
	if r.not != nil {
		r.not.values(used)
	}
	for _, name := range slices.Sorted(maps.Keys(r.phrase.slots)) {
		if !used[r.phrase.slots[name]] {
			return name
		}
	}
	return ""
}

// values notes the slots whose values mean something.
func (r *rule) values(used map[*Slot]bool) {
	note := func(all ...*Slot) {
		for _, s := range all {
			used[s] = true
		}
	}
	note(r.names...)
	note(r.adds...)
	note(r.uses...)
	note(r.of, r.tells)
	for _, a := range r.sets {
		note(a.slots...)
	}
	for _, o := range []*offer{r.offers, r.parts} {
		if o != nil {
			note(slices.Collect(maps.Values(o.slots))...)
		}
	}
	for _, f := range r.facts {
		for _, slots := range f.slots {
			note(slots...)
		}
	}
}

// empty reports whether the phrase means nothing at all.
func (r *rule) empty() bool {
	return r.moot == "" && len(r.sets) == 0 && r.offers == nil && r.parts == nil && r.makes == nothing && len(r.rules) == 0 &&
		len(r.adds) == 0 && len(r.uses) == 0 && r.tells == nil && len(r.facts) == 0 && r.not == nil
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
	a.row = row
	if share, of, ok := strings.Cut(text, "% of <"); ok {
		if a.share, err = strconv.Atoi(share); err != nil || row.Takes() != reflect.TypeFor[time.Duration]() || a.share < 1 ||
			a.share > 1000 {
			return a, l.errorf(path, "%s: %q is no share of a time", name, source.Clean(text))
		}
		text = "<" + of
	}
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

// fits says of which types a slot may be for a part of a proposal.
var fits = map[string][]string{
	"encryption": {"encryption"}, "integrity": {"integrity"}, "prf": {"prf", "integrity"}, "key-exchange": {"key-exchange", "group"},
	"sequence": {"sequence"},
}

// offer reads which slots are which parts of a proposal.
func (l *loader) offer(p *Phrase, text map[string]string, path string) (*offer, error) {
	o := &offer{of: text["of"], slots: map[ike.Registry]*Slot{}, says: map[ike.Registry]pick{}}
	if o.of != "ike" && o.of != "child" && o.of != "object" {
		return nil, l.errorf(path, "of: ike, child or object was expected")
	}
	for _, key := range slices.Sorted(maps.Keys(text)) {
		if key == "of" {
			continue
		}
		if !strings.HasPrefix(text[key], "<") {
			r, pick, err := l.pick(key, text[key], path)
			if err != nil {
				return nil, err
			}
			o.says[r] = pick
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
		if !slices.Contains(fits[key], s.Type.Name) {
			return nil, l.errorf(path, "slot %s is of type %s, not %s", s.Name, s.Type.Name, key)
		}
		o.slots[r] = s
	}
	if len(o.slots)+len(o.says) == 0 {
		return nil, l.errorf(path, "it has no part of a proposal")
	}
	return o, nil
}
