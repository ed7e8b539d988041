// Package baseline is what is required of a tunnel, each requirement with the document that says so.
package baseline

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"toril/ike"
)

// Level is how strongly a document asks for or against something, in the words of RFC 2119 and of the documents that
// refine it.
type Level uint8

// The levels, from the strongest demand against to the strongest demand for.
const (
	Unsaid Level = iota
	MustNot
	ShouldNot
	May
	MustLess // "MUST-": required today, expected to be dropped
	Should
	ShouldMore // "SHOULD+": expected to become MUST
	Must
)

var levelNames = [...]string{"not said", "MUST NOT", "SHOULD NOT", "MAY", "MUST-", "SHOULD", "SHOULD+", "MUST"}

// String returns the level in the documents' own words.
func (l Level) String() string { return levelNames[l] }

// Against reports whether the level advises against a thing.
func (l Level) Against() bool { return l == MustNot || l == ShouldNot }

// Source is where a requirement stands.
type Source struct {
	Document   string `yaml:"document"`
	Section    string `yaml:"section"`
	Unverified bool   `yaml:"unverified"` // nobody could check it against the document
	Note       string `yaml:"note"`
}

// String returns "RFC 8247 section 2.1", and says where nobody could check it.
func (s Source) String() string {
	out := s.Document
	if s.Section != "" {
		out += " section " + s.Section
	}
	if s.Unverified {
		out += " (unverified)"
	}
	return out
}

// Rule is the level of some algorithms for some protocols.
type Rule struct {
	For    []ike.Protocol
	Type   ike.Registry
	Names  []string // IANA's names; "*" for every other of the type
	Bits   []int    // key sizes; empty for all
	Level  Level
	Source Source

	layer int // 0: the baseline's own, or of the last scope that fits; the greater, the more is laid over it
}

// stricter reports whether a rule advises against more than another does.
func (r *Rule) stricter(than *Rule) bool {
	return r.Level.Against() && (!than.Level.Against() || r.Level < than.Level)
}

// Limit is a bound, of a kind of value.
type Limit struct {
	Name   string
	Most   float64 // seconds, bytes or bits as the name says; 0: no bound
	Least  float64
	Level  Level
	Source Source
}

// Demand is a requirement that is met or not: "ikev2", "pfs", "quantum-safe", ...
type Demand struct {
	Name   string
	Level  Level
	Source Source
}

// Baseline is a set of requirements under a name.
type Baseline struct {
	Name      string
	Title     string
	About     string
	Documents []Document
	Extends   string
	Rules     []Rule
	Limits    map[string]Limit
	Demands   map[string]Demand
	Scopes    []Scope
}

// Document is a source that a baseline is made of.
type Document struct {
	Name  string `yaml:"name"`
	Title string `yaml:"title"`
	Year  int    `yaml:"year"`
}

// Scope is a set of stricter or laxer requirements for some gateways or partners only.
type Scope struct {
	Gateways []string // patterns of names; empty: all
	Partners []string // patterns of the far gateway's name or of the connection's; empty: all
	Baseline *Baseline
}

// For returns the baseline that holds for a gateway and its partner: b itself with the scopes that fit laid over it,
// the last winning.
func (b *Baseline) For(gateway string, partners ...string) *Baseline {
	out := b
	for _, s := range b.Scopes {
		if matches(s.Gateways, gateway) && matches(s.Partners, partners...) {
			merged := over(out, s.Baseline)
			out = &merged
		}
	}
	return out
}

func matches(patterns []string, names ...string) bool {
	if len(patterns) == 0 {
		return true
	}
	for _, p := range patterns {
		for _, n := range names {
			if ok, _ := path.Match(p, n); ok {
				return true
			}
		}
	}
	return false
}

// over lays the requirements of top over those of base.
func over(base, top *Baseline) Baseline {
	out := *top
	out.Rules = slices.Concat(top.Rules, base.Rules) // in the order of their layers
	if n := len(top.Rules); n > 0 {
		under := top.Rules[n-1].layer + 1
		for i := range out.Rules[n:] {
			out.Rules[n+i].layer += under
		}
	}
	out.Limits = map[string]Limit{}
	out.Demands = map[string]Demand{}
	for _, from := range []*Baseline{base, top} {
		for k, v := range from.Limits {
			under := out.Limits[k] // a bound that is not said again holds on
			v.Most, v.Least = cmp.Or(v.Most, under.Most), cmp.Or(v.Least, under.Least)
			out.Limits[k] = v
		}
		for k, v := range from.Demands {
			out.Demands[k] = v
		}
	}
	if out.Name == "" {
		out.Name, out.Title, out.About = base.Name, base.Title, base.About
	}
	out.Documents = append(slices.Clone(base.Documents), top.Documents...)
	return out
}

// Judge returns the level of an algorithm for a protocol, and the rule that says so. Of the rules of one file, the first that names it
// decides, else that of "*"; where there is none, Unsaid. A "*" of a baseline also holds for what the baseline that it extends names, where
// it is stricter: "*" with MUST NOT leaves nothing but what its own file names. The rule must not be changed.
func (b *Baseline) Judge(p ike.Protocol, c ike.Choice) (Level, *Rule) {
	var above *Rule // the "*" of a layer that lies over the present one
	for rules := b.Rules; len(rules) > 0; {
		n := slices.IndexFunc(rules, func(r Rule) bool { return r.layer != rules[0].layer })
		if n < 0 {
			n = len(rules)
		}
		named, rest := judge(rules[:n], p, c)
		switch {
		case named != nil && above != nil && above.stricter(named):
			return above.Level, above
		case named != nil:
			return named.Level, named
		case above == nil:
			above = rest
		}
		rules = rules[n:]
	}
	if above != nil {
		return above.Level, above
	}
	return Unsaid, &unsaid
}

// judge returns the first rule of some that names an algorithm, and the first of "*"; nil for none.
func judge(rules []Rule, p ike.Protocol, c ike.Choice) (named, rest *Rule) {
	for i := range rules {
		r := &rules[i]
		if r.Type != c.Registry || !slices.Contains(r.For, p) {
			continue
		}
		switch {
		case slices.Contains(r.Names, "*"):
			if rest == nil {
				rest = r
			}
		case slices.Contains(r.Names, c.Name) && (len(r.Bits) == 0 || c.KeyBits == 0 || slices.Contains(r.Bits, c.KeyBits)):
			return r, rest
		}
	}
	return nil, rest
}

// unsaid is the rule of what no rule names.
var unsaid Rule

// Limit returns the bound of a kind; the zero Limit where there is none.
func (b *Baseline) Limit(k *Kind) Limit { return b.Limits[k.Name] }

// Duration returns the upper bound of a limit in seconds as a time.
func (l Limit) Duration() time.Duration { return time.Duration(l.Most * float64(time.Second)) }

// Demand returns what is asked of a kind; the zero Demand where nothing is.
func (b *Baseline) Demand(k *Kind) Demand { return b.Demands[k.Name] }

// Algorithms is the name under which a check says that a baseline's levels of algorithms set it.
const Algorithms = "algorithms"

// Sets reports whether the baseline says something under the name of a demand, a limit, or Algorithms.
func (b *Baseline) Sets(name string) bool {
	if name == Algorithms {
		return len(b.Rules) > 0
	}
	return b.Demands[name].Level != Unsaid || b.Limits[name].Level != Unsaid
}

// Says returns in a few words what the baseline says under the name of a demand or a limit, with the source; "" where it
// says nothing, and for Algorithms, which is a table of its own.
func (b *Baseline) Says(name string) string {
	if d := b.Demands[name]; d.Level != Unsaid {
		return d.Level.String() + " (" + d.Source.String() + ")"
	}
	if l := b.Limits[name]; l.Level != Unsaid {
		return l.text() + " (" + l.Source.String() + ")"
	}
	return ""
}

// Row is one requirement, as a table of baselines shows it.
type Row struct {
	Kind    string // "IKE encryption", "limit", "demand"
	Subject string // "IKE encryption ENCR_AES_CBC 128"
	Cells   []Cell // one a baseline
}

// Cell is what one baseline says about a subject.
type Cell struct {
	Text   string
	Source Source
}

// Compare lists what baselines say, subject by subject: every algorithm that one of them names, every limit, every
// demand.
func Compare(bs ...*Baseline) []Row {
	var rows []Row
	seen := map[string]bool{}
	add := func(kind, subject string, cell func(*Baseline) Cell) {
		if seen[subject] {
			return
		}
		seen[subject] = true
		row := Row{Kind: kind, Subject: subject}
		for _, b := range bs {
			row.Cells = append(row.Cells, cell(b))
		}
		rows = append(rows, row)
	}
	for _, p := range []ike.Protocol{ike.IKE, ike.ESP, ike.AH} {
		for _, r := range []ike.Registry{ike.Encryption, ike.PRF, ike.Integrity, ike.KeyExchange, ike.AuthMethod} {
			for _, c := range named(bs, p, r) {
				kind := fmt.Sprintf("%s %s", p, r)
				subject := kind + " " + c.Name
				if c.KeyBits > 0 {
					subject += fmt.Sprintf(" %d", c.KeyBits)
				}
				add(kind, subject, func(b *Baseline) Cell {
					l, rule := b.Judge(p, c)
					return Cell{l.String(), rule.Source}
				})
			}
		}
	}
	for _, name := range keys(bs, func(b *Baseline) []string { return mapKeys(b.Limits) }) {
		add("limit", "limit "+name, func(b *Baseline) Cell {
			l := b.Limits[name]
			return Cell{l.text(), l.Source}
		})
	}
	for _, name := range keys(bs, func(b *Baseline) []string { return mapKeys(b.Demands) }) {
		add("demand", "demand "+name, func(b *Baseline) Cell {
			d := b.Demands[name]
			return Cell{d.Level.String(), d.Source}
		})
	}
	return rows
}

// named returns the algorithms of a type that some baseline names for a protocol, in the catalogue's order; with their
// key sizes apart where a baseline tells them apart.
func named(bs []*Baseline, p ike.Protocol, r ike.Registry) []ike.Choice {
	names, sizes := map[string]bool{}, map[string]bool{}
	for _, b := range bs {
		for _, rule := range b.Rules {
			if rule.Type != r || !slices.Contains(rule.For, p) {
				continue
			}
			for _, n := range rule.Names {
				names[n] = true
				sizes[n] = sizes[n] || len(rule.Bits) > 0
			}
		}
	}
	var out []ike.Choice
	for i := range ike.Catalogue {
		a := &ike.Catalogue[i]
		if a.Registry != r || !names[a.Name] {
			continue
		}
		if !sizes[a.Name] {
			out = append(out, ike.Choice{Algorithm: a})
			continue
		}
		for _, bits := range a.Keys {
			out = append(out, ike.Choice{Algorithm: a, KeyBits: bits})
		}
	}
	return out
}

func keys(bs []*Baseline, of func(*Baseline) []string) []string {
	var out []string
	for _, b := range bs {
		out = append(out, of(b)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func mapKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.SortFunc(out, func(a, b string) int { return cmp.Compare(a, b) })
	return out
}

// text writes a limit for people.
func (l Limit) text() string {
	if l.Level == Unsaid {
		return Unsaid.String()
	}
	unit := kindNamed(LimitKinds(), l.Name).Unit.write
	var parts []string
	if l.Least > 0 {
		parts = append(parts, "at least "+unit(l.Least))
	}
	if l.Most > 0 {
		parts = append(parts, "at most "+unit(l.Most))
	}
	return l.Level.String() + " " + strings.Join(parts, ", ")
}

// Record writes all of the baseline down: the same bytes for the same demands, and for no others.
func (b *Baseline) Record() []byte {
	own := *b
	own.Scopes = nil
	out := fmt.Appendf(nil, "%#v", own)
	for _, s := range b.Scopes {
		out = fmt.Appendf(out, "%q %q {%s}", s.Gateways, s.Partners, s.Baseline.Record())
	}
	return out
}
