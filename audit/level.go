package audit

import (
	"slices"
	"strings"
	"unique"

	"toril/baseline"
	"toril/ike"
	"toril/model"
	"toril/packet"
	"toril/source"
)

// OfLevel returns the severity of breaking a requirement of a level.
func OfLevel(l baseline.Level) Severity {
	switch l {
	case baseline.MustNot, baseline.Must:
		return High
	case baseline.ShouldNot, baseline.Should, baseline.ShouldMore, baseline.MustLess:
		return Medium
	}
	return Info
}

// Weak is an algorithm that a baseline advises against.
type Weak struct {
	ike.Choice
	Level baseline.Level
	Rule  baseline.Rule
}

// Judged divides what a setting offers, over all its proposals, by what a baseline says of it.
type Judged struct {
	Weak      []Weak
	Preferred bool           // the first proposal's first choice of a type is weak, or no suite without weak parts is offered
	Worst     baseline.Level // of the weak ones
	In        source.Range   // the proposal that the weak ones are in; zero where several are, or it is a default
}

// Judge looks at every algorithm of a list of proposals, of the types given.
func Judge(b *baseline.Baseline, ps []ike.Proposal, protocol ike.Protocol, types ...ike.Registry) Judged {
	var out Judged
	for _, r := range types {
		for _, c := range ike.All(ps, r) {
			if c.ID == 0 && r != ike.KeyExchange && r.Exchanges() {
				continue // an additional key exchange that may be left out
			}
			level, rule := b.Judge(protocol, c)
			if !level.Against() {
				continue
			}
			out.Weak = append(out.Weak, Weak{c, level, *rule})
			if out.Worst == baseline.Unsaid || level < out.Worst { // MUST NOT comes before SHOULD NOT
				out.Worst = level
			}
		}
	}
	var in []source.Range
	for i, p := range ps {
		if slices.ContainsFunc(out.Weak, func(w Weak) bool { return slices.Contains(p.Of(w.Registry), w.Choice) }) {
			if !slices.Contains(in, p.Range) { // one as written may be several
				in = append(in, p.Range)
			}
		}
		for _, r := range types {
			cs := p.Of(r)
			if i == 0 && len(cs) > 0 {
				level, _ := b.Judge(protocol, cs[0])
				out.Preferred = out.Preferred || level.Against()
			}
		}
	}
	if len(in) == 1 {
		out.In = in[0]
	}
	out.Preferred = out.Preferred ||
		len(out.Weak) > 0 && !slices.ContainsFunc(ps, func(p ike.Proposal) bool { return canBeStrong(b, p, protocol, types) })
	return out
}

// canBeStrong reports whether a suite without weak parts can be made of a proposal.
func canBeStrong(b *baseline.Baseline, p ike.Proposal, protocol ike.Protocol, types []ike.Registry) bool {
	for _, r := range types {
		cs := p.Of(r)
		if len(cs) > 0 &&
			!slices.ContainsFunc(cs, func(c ike.Choice) bool { level, _ := b.Judge(protocol, c); return !level.Against() }) {
			return false
		}
	}
	return true
}

// Judged makes the severity that of the worst of weak algorithms, by their level and exposure.
// It stands where the first of them is configured, if that is by a statement of its own.
func (f *Finding) Judged(j Judged, parts model.Parts) {
	f.level, f.leveled, f.Standard = j.Severity(), true, j.Standard()
	var names []string
	for _, w := range j.Weak {
		names = append(names, w.String())
	}
	f.trait().weak = unique.Make(strings.Join(names, "\n")).Value() // the same for many
	for _, w := range j.Weak {
		if at, ok := parts[w.Registry]; ok && at != f.At.Pos {
			f.Also = append(f.Also, Evidence{Pos: f.At.Pos, Note: "the proposals that it is a part of"})
			f.At = Evidence{Pos: at}
			return
		}
	}
	if j.In.End > 0 {
		f.At.Range = j.In
	}
}

// Severity follows the level and the exposure: a weak algorithm that is preferred counts in full, one beside strong ones
// a step less.
func (j Judged) Severity() Severity {
	s := OfLevel(j.Worst)
	if !j.Preferred {
		s = s.Less(1)
	}
	return s
}

// Names lists the weak algorithms with their part in the proposal: "3DES (cipher), group 2 (MODP 1024)".
func (j Judged) Names() string {
	part := map[ike.Registry]string{
		ike.Encryption:  " (cipher)",
		ike.Integrity:   " (integrity)",
		ike.PRF:         " (PRF)",
		ike.KeyExchange: " (key exchange)",
	}
	var out []string
	for _, w := range j.Weak {
		if w.Registry == ike.KeyExchange {
			out = append(out, w.Label())
			continue
		}
		out = append(out, w.String()+part[w.Registry])
	}
	return join(out, 8)
}

// Standard lists what the baseline leans on, each document once.
func (j Judged) Standard() string {
	var out []string
	seen := map[string]bool{}
	for _, w := range j.Weak {
		s := w.Level.String() + " by " + w.Rule.Source.String()
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return join(out, 4)
}

// List writes words with commas and a final "and"; of a long list it gives the first and says how many follow.
func List(words []string) string {
	switch len(words) {
	case 0:
		return ""
	case 1:
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// Networks lists the networks of an address field of a set; of many it gives the first.
func Networks(s packet.Set, f packet.Field) string {
	const most = 4
	var out []string
	for i, p := range s.Prefixes(f) {
		if i == most {
			out = append(out, "more")
			break
		}
		out = append(out, p.String())
	}
	return List(out)
}

func join(words []string, most int) string {
	if len(words) > most {
		return strings.Join(words[:most], ", ") + ", and more"
	}
	return strings.Join(words, ", ")
}

// Exposure lowers a finding about offered algorithms where the known far end offers none of the weak ones: as both ends
// stand, they cannot be negotiated; and raises it where one of them was seen in use.
func Exposure(f *Finding, s *Subject, j Judged) {
	far, ok := s.Far()
	if Used(f, s, j) || len(j.Weak) == 0 {
		return
	}
	if !ok {
		f.Reasons = append(f.Reasons, s.elsewhere...)
		return
	}
	theirs := far.Connection.Proposals.Value
	at := far.Connection.Proposals.Where(far.Connection.At)
	if s.Child != nil {
		theirs = nil
		for _, c := range far.Connection.Children {
			theirs = append(theirs, c.Proposals.Value...)
			at = c.Proposals.Where(c.At)
		}
	}
	for _, w := range j.Weak {
		if ike.All(theirs, w.Registry).Has(w.Choice) {
			return
		}
	}
	f.Lower(2)
	f.Message += "; " + far.Gateway.Name + " offers none of them, so as both ends stand they are not used"
	f.Also = append(f.Also, Evidence{Pos: at, Note: "what the far end offers"})
}
