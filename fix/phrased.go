package fix

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/settings"
	"toril/source"
)

// phrased changes words in the statements of a language that a phrasebook teaches: the word for what a setting is now becomes the word for
// what it is to be. Statements that are not there are not made up.
type phrased struct {
	g     *model.Gateway
	words map[string]map[string]string // the vocabulary: by kind, what words mean
}

// token is a word or a number of a statement.
var token = lazy.Regexp(`[A-Za-z0-9_.-]+`)

// registries are the kinds of words for algorithms.
var registries = sync.OnceValue(func() map[ike.Registry][]string {
	return map[ike.Registry][]string{
		ike.Encryption:  {"encryption"},
		ike.Integrity:   {"integrity"},
		ike.PRF:         {"prf"},
		ike.KeyExchange: {"key-exchange"},
	}
})

func (w phrased) set(x set) ([]Edit, error) {
	c, k := x.end.Connection, x.child
	switch v := x.value.(type) {
	case time.Duration:
		s := c.LifetimeSetting()
		switch x.setting {
		case settings.ChildLifetime.Row:
			s = k.Rekey
		case settings.ChildHardLifetime.Row:
			s = k.Life
		case settings.Liveness.Row:
			s = c.DPD
		}
		return w.time(s.At, s.IsDefault(), s.Value, v)
	case ike.Version:
		return w.word(c.Version.At, c.Version.IsDefault(), "version", func(means string) bool { return means == "ikev2" })
	case model.Start:
		want := map[model.Start]string{model.StartTraffic: "traffic", model.StartBoth: "start-and-traffic", model.StartBoot: "start"}[v]
		return w.word(k.Start.At, k.Start.IsDefault(), "initiation", func(means string) bool { return means == want })
	case []ike.Proposal:
		if k != nil {
			return w.proposals(k.Proposals, k.Parts, v)
		}
		return w.proposals(c.Proposals, c.Parts, v)
	}
	return nil, fmt.Errorf("%s is not a setting that Toril writes into the language of a phrasebook", x.setting.Name)
}

// statement returns the file and the bytes of a statement that is there.
func (w phrased) statement(at source.Pos, absent bool) (f *model.File, text string, start int, err error) {
	if f = w.g.File(at.File); absent || f == nil {
		return nil, "", 0, fmt.Errorf("%s has no statement for it, and Toril makes none up in the language of a phrasebook", w.g.Name)
	}
	r := f.Range(at)
	return f, string(f.Bytes()[r.Start:r.End]), r.Start, nil
}

// time replaces the one number that is the time now, in whatever unit.
func (w phrased) time(at source.Pos, absent bool, now, want time.Duration) ([]Edit, error) {
	f, text, start, err := w.statement(at, absent)
	if err != nil {
		return nil, err
	}
	var found []Edit
	for _, m := range token().FindAllStringIndex(text, -1) {
		n, err := strconv.ParseInt(text[m[0]:m[1]], 10, 32)
		if err != nil {
			continue
		}
		for _, unit := range []time.Duration{time.Second, time.Minute, time.Hour, 24 * time.Hour} {
			if n > 0 && time.Duration(n)*unit == now && want%unit == 0 {
				found = append(found, replace(f, start, m, fmt.Sprint(int64(want/unit))))
			}
		}
	}
	if len(found) != 1 {
		return nil, fmt.Errorf("%s: which number is the time, and in which unit, is not certain", at)
	}
	return found, nil
}

func replace(f *model.File, start int, m []int, text string) Edit {
	return Edit{File: f.Path, Range: source.Range{Start: start + m[0], End: start + m[1]}, Text: text}
}

// word replaces the one word of a kind by another of that kind.
func (w phrased) word(at source.Pos, absent bool, kind string, is func(means string) bool) ([]Edit, error) {
	f, text, start, err := w.statement(at, absent)
	if err != nil {
		return nil, err
	}
	want := ""
	for _, word := range sorted(w.words[kind]) {
		if is(w.words[kind][word]) {
			want = word
			break
		}
	}
	var found []Edit
	for _, m := range token().FindAllStringIndex(text, -1) {
		if _, known := w.words[kind][text[m[0]:m[1]]]; known {
			found = append(found, replace(f, start, m, want))
		}
	}
	if want == "" || len(found) != 1 {
		return nil, fmt.Errorf("%s: the phrasebook has no word for it, or the statement has none of that kind", at)
	}
	return found, nil
}

// proposals replaces the words of the one proposal that is there by those of another with the same parts.
func (w phrased) proposals(now model.Setting[[]ike.Proposal], parts model.Parts, want []ike.Proposal) ([]Edit, error) {
	if len(now.Value) != 1 || len(want) != 1 {
		return nil, fmt.Errorf("%s: it is several proposals, or is to be", w.g.Name)
	}
	var out []Edit
	for _, r := range []ike.Registry{ike.Encryption, ike.Integrity, ike.KeyExchange} {
		is, to := now.Value[0].Of(r), want[0].Of(r)
		if len(is) == 1 && len(to) == 1 && is[0].Same(to[0]) || len(is) == 0 && len(to) == 0 {
			continue
		}
		if r == ike.Integrity && len(is) == 1 && len(to) == 0 { // the hash stands for the PRF, and a combined cipher needs none
			if prf := want[0].Of(ike.PRF); len(prf) == 1 {
				if hash, ok := hashOf(prf[0]); ok && hash.Same(is[0]) {
					continue
				} else if ok {
					to = ike.Choices{hash}
				}
			}
		}
		if len(is) != 1 || len(to) != 1 {
			return nil, fmt.Errorf("%s: the proposals have other parts", w.g.Name)
		}
		at := now.At
		if p, ok := parts[r]; ok {
			at = p
		}
		edit, err := w.algorithm(at, now.IsDefault(), is[0], to[0])
		if err != nil {
			return nil, err
		}
		if !slices.Contains(out, edit) {
			out = append(out, edit)
		}
	}
	return out, nil
}

// hashOf is the integrity algorithm with the hash of a PRF.
func hashOf(prf ike.Choice) (ike.Choice, bool) {
	id, ok := map[uint16]uint16{2: 2, 5: 12, 6: 13, 7: 14}[prf.ID]
	return ike.Pick(ike.Integrity, id, 0), ok
}

// algorithm replaces the word, or the number of a group, for one algorithm.
func (w phrased) algorithm(at source.Pos, absent bool, is, to ike.Choice) (Edit, error) {
	f, text, start, err := w.statement(at, absent)
	if err != nil {
		return Edit{}, err
	}
	var found []Edit
	for _, m := range token().FindAllStringIndex(text, -1) {
		word := text[m[0]:m[1]]
		for _, kind := range registries()[is.Registry] {
			if w.words[kind][word] != meaning(is) {
				continue
			}
			for _, other := range sorted(w.words[kind]) {
				if w.words[kind][other] == meaning(to) {
					found = append(found, replace(f, start, m, other))
				}
			}
		}
		if is.Registry == ike.KeyExchange && groupNumber(word, is) {
			n := fmt.Sprint(to.ID)
			if word != fmt.Sprint(is.ID) { // by its bits
				n = bitsOf(to)
			}
			if n != "" {
				found = append(found, replace(f, start, m, n))
			}
		}
	}
	if len(found) != 1 {
		return Edit{}, fmt.Errorf("%s: the phrasebook has no word for %s", at, to.Label())
	}
	return found[0], nil
}

// meaning is what a phrasebook's vocabulary says of a word for an algorithm.
func meaning(c ike.Choice) string {
	if c.KeyBits > 0 {
		return fmt.Sprintf("%s %d", c.Name, c.KeyBits)
	}
	return c.Name
}

var modulus = lazy.Regexp(`^(\d+)-bit MODP Group$`)

// bitsOf is the size of a MODP group; "" for any other.
func bitsOf(c ike.Choice) string {
	if m := modulus().FindStringSubmatch(c.Name); m != nil {
		return m[1]
	}
	return ""
}

func groupNumber(word string, c ike.Choice) bool {
	return word == fmt.Sprint(c.ID) || word != "" && word == bitsOf(c)
}

func sorted(words map[string]string) []string {
	var out []string
	for w := range words {
		out = append(out, w)
	}
	slices.SortFunc(out, strings.Compare)
	return out
}
