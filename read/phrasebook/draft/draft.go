// Package draft makes a first phrasebook of saved configurations in a language that nobody here knows. What it is sure of rests on values:
// on what the far ends of the device's tunnels are configured to, and on what can only be one thing; what rests on words is marked.
package draft

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/read/phrasebook"
	"toril/source"
	"toril/syntax/statements"
)

// Draft is a phrasebook that was drafted.
type Draft struct {
	Language string
	Manner   statements.Manner
	Forms    []*Form
	Words    map[string]map[string]string // the vocabulary that was found
	Left     []*Form                      // forms of which nothing is known
}

// Form is statements that look alike, with what they seem to mean.
type Form struct {
	Say    string
	Nested []*Form
	Lines  []int // on which they stand
	Makes  string
	Named  string
	Kind   string
	Claims []Claim

	tokens    [][]statements.Word // the words of each statement
	within    string              // what the form stands in, where that is made of its parts
	whose     []*statements.Statement
	inner     []*statements.Statement
	unsayable bool   // a phrase cannot have its words
	text      string // of the words that all share, in small letters, with those of the forms around
	slots     []slot
	path      string
}

// Claim is what a form seems to mean: a setting, or a part of a fact.
type Claim struct {
	What  string // "peer-address", "child.encryption", "interface.address"
	Value string // the slot, or a value
	Guess bool   // it rests on words alone
	Why   string
}

// slot is a place at which statements of a form differ, or have a value.
type slot struct {
	at   int // the word
	name string
	kind string
}

// drafter is one draft at work.
type drafter struct {
	hints *hints
	named map[string]*named   // what has names
	own   map[netip.Addr]bool // addresses of interfaces
	seen  map[netip.Addr]bool // all addresses
	nets  map[netip.Prefix]bool
	names map[string]bool // words that name something
	words map[string]map[string]string
}

// Of drafts a phrasebook from samples. known are the other gateways of the estate.
func Of(files []*source.File, known []*model.Gateway, language string) *Draft {
	d := &Draft{Language: language, Manner: manner(files), Words: map[string]map[string]string{}}
	w := &drafter{named: map[string]*named{}, own: map[netip.Addr]bool{}, seen: map[netip.Addr]bool{},
		nets: map[netip.Prefix]bool{}, names: map[string]bool{}, words: d.Words}
	var all []*statements.Statement
	for _, f := range files {
		list, _ := statements.Parse(f.Bytes(), d.Manner)
		all = append(all, list...)
	}
	w.survey(all)
	w.hints = hintsOf(known, w)
	d.Forms = w.forms(all, "", 0)
	w.mean(d.Forms)
	w.ports(d.Forms)
	w.objects(d.Forms, false)
	w.refer(d.Forms)
	w.begin(d.Forms)
	d.Forms = d.prune(d.Forms)
	return d
}

// survey finds the addresses that are the device's own, and the words that name something.
func (w *drafter) survey(list []*statements.Statement) {
	for _, st := range list {
		for i, word := range st.Words {
			w.value(st.Words, i, word.Text)
		}
		if len(st.Nested) > 0 && len(st.Words) > 1 && phrasebook.KindOf(st.Words[1]) == "word" &&
			!slices.Contains(protocols, st.Words[1].Text) {
			w.names[st.Words[1].Text] = true
		}
		if len(st.Words) == 2 && slices.Contains(naming, strings.ToLower(st.Words[0].Text)) {
			w.names[st.Words[1].Text] = true
		}
		w.survey(st.Nested)
	}
}

// value notes an address or a network. An address in its network is the device's own.
func (w *drafter) value(words []statements.Word, i int, text string) {
	p, err := netip.ParsePrefix(text)
	if a, err2 := netip.ParseAddr(text); err2 == nil {
		w.seen[a] = true
		next := ""
		if i+1 < len(words) {
			next = words[i+1].Text
		}
		if i+2 < len(words) && next == "mask" {
			next = words[i+2].Text
		}
		p, err = masked(text, next)
	}
	if err != nil || !p.IsValid() {
		return
	}
	w.nets[p.Masked()] = true
	if p != p.Masked() {
		w.own[p.Addr()] = true
	}
}

// protocols are names of routing protocols.
var protocols = []string{"ospf", "ospf6", "bgp", "rip", "ripng", "isis", "eigrp"}

// naming are first words of statements that name what stands around them.
var naming = []string{"name", "title", "id"}

// maxForms bounds how many forms one place has.
const maxForms = 2000

// forms groups the statements of one place by what they look like.
func (w *drafter) forms(list []*statements.Statement, path string, depth int) []*Form {
	by := map[string]*Form{}
	var order []*Form
	for _, st := range list {
		if len(st.Words) == 0 || len(order) > maxForms {
			continue
		}
		key := w.shape(st)
		f := by[key]
		if f == nil {
			f = &Form{path: path}
			by[key] = f
			order = append(order, f)
		}
		f.tokens = append(f.tokens, st.Words)
		f.whose = append(f.whose, st)
		f.Lines = append(f.Lines, st.Line)
		f.inner = append(f.inner, st.Nested...)
	}
	for _, f := range order {
		w.say(f)
		if depth < 16 {
			f.Nested = w.forms(f.inner, strings.TrimSpace(path+" "+f.text), depth+1)
		}
	}
	return order
}

// shape is what statements of one form have in common: their keywords, and the kinds of values in other places.
func (w *drafter) shape(st *statements.Statement) string {
	var out []string
	for i, word := range st.Words {
		kind := w.kind(st.Words, i)
		if n := len(out); kind != "word" && n > 0 && out[n-1] == "<"+kind+">" && kind != "name" {
			continue // several values
		}
		if kind == "word" {
			out = append(out, word.Text)
			continue
		}
		out = append(out, "<"+kind+">")
	}
	if len(st.Nested) > 0 {
		out = append(out, "{")
	}
	return strings.Join(out, " ")
}

// kind is the kind of a word in its place: "word" for a keyword.
func (w *drafter) kind(words []statements.Word, i int) string {
	word := words[i]
	kind := phrasebook.KindOf(word)
	if i == 0 && kind == "word" && keyword(word.Text) {
		return "word"
	}
	before := ""
	if i > 0 {
		before = words[i-1].Text
	}
	if _, ok := w.secret(word.Text); ok && !w.names[word.Text] {
		return "secret"
	}
	if kind != "address" && kind != "prefix" && i > 0 && i == len(words)-1 && word.Text != "none" &&
		slices.ContainsFunc(words[:i], func(w statements.Word) bool { return phrasebook.SecretWord(w.Text) }) {
		return "secret"
	}
	switch {
	case kind == "address" && i+1 < len(words) && phrasebook.KindOf(words[i+1]) == "mask":
		return "masked"
	case kind == "mask" && i > 0 && phrasebook.KindOf(words[i-1]) == "address":
		return "masked"
	case kind == "mask":
		return "address"
	case kind == "prefix":
		if p, err := netip.ParsePrefix(word.Text); err == nil && p == p.Masked() {
			return "network"
		}
		return "prefix"
	case kind == "text" && strings.ContainsAny(word.Text, " "):
		return "text"
	case kind == "text" || kind == "word":
		if part, _, ok := algorithm(word.Text); ok {
			if part == "integrity" && strings.Contains(strings.ToLower(before), "prf") {
				return "prf"
			}
			return part
		}
		if _, ok := group(word.Text); ok {
			return "key-exchange"
		}
		if w.hints != nil && len(w.hints.identities[strings.ToLower(word.Text)]) > 0 || strings.Contains(word.Text, ".") &&
			strings.Trim(word.Text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-@") == "" {
			return "identity"
		}
		// what looks like no word may be a secret
		if w.names[word.Text] || kind == "text" || !source.IsName(strings.ReplaceAll(word.Text, "=", "-")) {
			return "name"
		}
	}
	return kind
}

// keyword reports whether a word that a statement begins with looks like one of a language: words joined, also by capitals.
func keyword(word string) bool {
	return source.IsName(capitals().ReplaceAllString(word, "-$1"))
}

// capitals are what begins a word within a word, as in ikeLifetime.
var capitals = lazy.Regexp(`([A-Z][a-z]{2,})`)

func (w *drafter) secret(word string) (string, bool) {
	if w.hints == nil {
		return "", false
	}
	return w.hints.secret(word)
}

// types are the types of slots by the kinds of values.
var types = map[string]string{"address": "address", "prefix": "prefix", "network": "network", "number": "number", "secret": "secret",
	"identity": "word", "name": "word", "text": "text", "encryption": "encryption", "integrity": "integrity",
	"key-exchange": "key-exchange", "prf": "prf"}

// say writes the phrase of a form.
func (w *drafter) say(f *Form) {
	words := f.tokens[0]
	var out, keys []string
	count := map[string]int{}
	for i := 0; i < len(words); i++ {
		kind := w.kind(words, i)
		if kind == "word" {
			word := words[i].Text
			f.unsayable = f.unsayable || strings.ContainsRune(word, '\'') || word != source.Clean(word) || word == ""
			keys = append(keys, strings.ToLower(word))
			if strings.ContainsAny(word, "[]()|<>") || strings.Contains(word, "...") {
				word = "'" + word + "'"
			}
			out = append(out, word)
			continue
		}
		letter := map[string]string{"address": "a", "prefix": "p", "network": "n", "masked": "m", "number": "k", "secret": "s",
			"identity": "i",
			"name":     "w", "text": "t", "prf": "f", "encryption": "e", "integrity": "h", "key-exchange": "g"}[kind]
		count[letter]++
		name := letter
		if n := count[letter]; n > 1 {
			name = fmt.Sprintf("%s%d", letter, n)
		}
		s := slot{at: i, name: name, kind: kind}
		many := false
		for i+1 < len(words) && kind != "name" && w.kind(words, i+1) == kind {
			many = many || kind != "masked"
			i++
		}
		f.slots = append(f.slots, s)
		typ := types[kind]
		if kind == "masked" {
			typ = "address-mask"
		}
		text := "<" + name + ":" + typ + ">"
		if many {
			text += "..."
		}
		out = append(out, text)
	}
	f.Say, f.text = strings.Join(out, " "), strings.Join(keys, " ")
}

// prune takes out the forms of which nothing is known, and keeps them aside.
func (d *Draft) prune(forms []*Form) []*Form {
	var out []*Form
	for _, f := range forms {
		f.Nested = d.prune(f.Nested)
		begins := f.Named != "" || f.Makes == "route" || f.Makes == "rule"
		if f.unsayable || len(f.keys()) == 0 && len(f.Nested) == 0 && (f.Makes == "" || !begins) {
			d.Left = append(d.Left, f)
			continue
		}
		out = append(out, f)
	}
	return out
}

// Settings are what the draft says of each line of the samples, with whether it is sure.
func (d *Draft) Settings() map[int]map[string]bool {
	out := map[int]map[string]bool{}
	var walk func(forms []*Form)
	walk = func(forms []*Form) {
		for _, f := range forms {
			for _, line := range f.Lines {
				for _, c := range f.Claims {
					if out[line] == nil {
						out[line] = map[string]bool{}
					}
					what := strings.Replace(c.What, ".group", ".key-exchange", 1)
					out[line][what] = out[line][what] || !c.Guess
				}
			}
			walk(f.Nested)
		}
	}
	walk(d.Forms)
	return out
}

// values are the words that fill a slot, in every statement of the form.
func (f *Form) values(s slot) (out []string) {
	for _, words := range f.tokens {
		if s.at < len(words) {
			out = append(out, words[s.at].Text)
		}
	}
	return out
}
