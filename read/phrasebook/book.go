package phrasebook

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/read"
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
	Order    model.Order
	Examples []Example
	Warnings []*source.Error // what is not wrong, and should be better

	types      Types
	vocabulary map[string]map[string]string
	negates    []string // first words that turn a statement into its opposite
	given      []given
	defaults   map[string][]assumption // by settings, the newest first
	parts      []partDefault
	chains     []chain
	lists      *model.Verb // what the end of a list of rules that statements name does; nil where they name none
	rules      []*rule
}

// assumption is what a language does where a setting is not configured.
type assumption struct {
	row   *settings.Row
	value any
	share int    // percent of another setting, instead of a value; 0: the value
	other string // that setting
	text  string
	since string // the first version that does so; "" for all
}

// partDefault is what a language does where a part of a proposal is not configured.
type partDefault struct {
	of       string // "ike" or "child"
	registry ike.Registry
	pick     pick
	since    string
}

// given are statements that a device has without their being saved.
type given struct {
	list  []*statements.Statement
	since string
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
	makes  maker
	names  []*Slot // whose values name what is made; none: it has a number
	title  string  // the first word of the statement within that names it; "" where slots do
	of     *Slot   // the connection that a child belongs to; nil: the one around it
	kind   string  // of what has a name
	again  string  // what a second object of a name does
	local  bool    // the object is known only in what stands around it
	adds   []*Slot // whose values belong to it
	uses   []*Slot // the profiles that hold here
	sets   []assignment
	offers *offer
	parts  *offer
	tells  *Slot // whose value is the version of what wrote the file
	facts  []*fact
	moot   string // why its statements are of no consequence; "" where they are
	not    *rule  // what the negated statement means; nil where the phrasebook does not say
	rules  []*rule
	first  map[string]bool // words that a statement may begin with; nil: any
}

// maker is what a statement begins.
type maker string

const (
	nothing    maker = ""
	connection maker = "connection"
	childSA    maker = "child"
	named      maker = "object" // networks, proposals, services, interfaces or settings that have a name
	port       maker = "interface"
	protocol   maker = "routing"
	access     maker = "rule"
	nat        maker = "translation"
	path       maker = "route"
	secret     maker = "key"
)

// makers are all of them.
var makers = []maker{connection, childSA, named, port, protocol, access, nat, path, secret}

// What a second object of a name does.
const (
	addsToIt   = "adds"
	replacesIt = "replaces"
	isIgnored  = "ignored"
)

// assignment gives a setting the values of slots, or one that the phrasebook says.
type assignment struct {
	row   *settings.Row
	slots []*Slot
	value any // where there are no slots
	share int // percent of the slot's value; 0: all of it
	one   func([]any) (any, error)
}

// offer is a proposal that statements say, or a part of one.
type offer struct {
	of    string // "ike", "child", or "object": to what has a name
	slots map[ike.Registry]*Slot
	says  map[ike.Registry]pick
}

// pick is a part of a proposal that a phrasebook itself says.
type pick struct {
	ike.Choice
	none bool // there is none
	asIt bool // of a child's key exchange: as that of the IKE SA
}

// Format makes the book a saved format like any other.
func (b *Book) Format() *read.Format {
	return &read.Format{
		Name:     b.Language,
		Title:    b.Title,
		Software: b.Title,
		About:    model.AboutEverything,
		Hints:    b.Files,
		Comments: b.Manner.Comments,
		Order:    20,
		Taught:   true,

		Vocabulary: b.vocabulary,

		Looks:  b.looks,
		Read:   b.read,
		Words:  b.words,
		Covers: func() []read.Coverage { return covers(b.rules, "") },
	}
}

// words are those of the language's vocabulary, which a quote may show.
func (b *Book) words() (out []string) {
	for _, words := range b.vocabulary {
		out = slices.AppendSeq(out, maps.Keys(words))
	}
	return out
}

// looks judges a file by the line that every file of the language has.
func (b *Book) looks(f *source.File) (int, string) {
	if b.Begins == "" {
		return b.fit(f)
	}
	for line := range strings.Lines(string(f.Head())) {
		if line = strings.TrimLeft(line, " \t\ufeff"); strings.HasPrefix(line, b.Begins) ||
			b.Fold && len(line) >= len(b.Begins) && strings.EqualFold(line[:len(b.Begins)], b.Begins) {
			return 95, fmt.Sprintf("it has a line that begins with %q", b.Begins)
		}
	}
	return 0, ""
}

// fit judges a file by how many of its first statements are of the language, where no line tells.
func (b *Book) fit(f *source.File) (int, string) {
	const most = 200
	list, _ := statements.Parse(f.Head(), b.Manner)
	all, fits := 0, 0
	var count func(list []*statements.Statement, rules []*rule)
	count = func(list []*statements.Statement, rules []*rule) {
		for _, st := range list {
			if len(st.Words) == 0 || all >= most {
				continue
			}
			all++
			for _, r := range rules {
				if _, _, ok := r.phrase.Match(st.Words, b.Fold); ok {
					fits++
					count(st.Nested, r.rules)
					break
				}
			}
		}
	}
	count(list, b.rules)
	if all == 0 || fits*2 < all {
		return 0, ""
	}
	return 20 + 60*fits/all, fmt.Sprintf("%d of its first %d statements are of that language", fits, all)
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
