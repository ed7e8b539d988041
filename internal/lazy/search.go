package lazy

import (
	"bytes"
	"regexp"
	"regexp/syntax"
	"slices"
	"sync"
)

// Search looks for an expression in long texts. Where a text lacks words that every match must have, which is soon found out, the
// expression is not tried.
type Search struct {
	pattern  string
	needOnce sync.Once
	need     need
	once     sync.Once
	re       *regexp.Regexp
}

// NewSearch makes a search, compiled when it is first needed. A pattern that is none panics then.
func NewSearch(pattern string) *Search { return &Search{pattern: pattern} }

// compiled returns the expression.
func (s *Search) compiled() *regexp.Regexp {
	s.once.Do(func() { s.re = regexp.MustCompile(s.pattern) })
	return s.re
}

// need is what a text must have for an expression to match in it: a word, all of some needs, or one of some. The zero need is none.
type need struct {
	word     []byte
	all, any []need
}

func (n *need) none() bool { return n.word == nil && n.all == nil && n.any == nil }

func (n *need) met(text []byte) bool {
	switch {
	case n.word != nil:
		return bytes.Contains(text, n.word)
	case n.any != nil:
		for i := range n.any {
			if n.any[i].met(text) {
				return true
			}
		}
		return false
	}
	for i := range n.all {
		if !n.all[i].met(text) {
			return false
		}
	}
	return true
}

// needOf returns what every match of an expression needs.
func needOf(re *syntax.Regexp) (n need) {
	switch re.Op {
	case syntax.OpLiteral:
		if re.Flags&syntax.FoldCase == 0 {
			n.word = []byte(string(re.Rune))
		}
	case syntax.OpCapture, syntax.OpPlus:
		return needOf(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return needOf(re.Sub[0])
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			if one := needOf(sub); !one.none() {
				n.all = append(n.all, one)
			}
		}
		slices.SortStableFunc(n.all, func(a, b need) int { return len(b.word) - len(a.word) }) // long words are the rarest
	case syntax.OpAlternate:
		for _, sub := range re.Sub {
			one := needOf(sub)
			if one.none() {
				return need{}
			}
			n.any = append(n.any, one)
		}
	}
	return n
}

// May reports whether a text may hold a match: it has the words that a match needs.
func (s *Search) May(text []byte) bool {
	s.needOnce.Do(func() {
		if tree, err := syntax.Parse(s.pattern, syntax.Perl); err == nil { // else compiling it says so
			s.need = needOf(tree.Simplify())
		}
	})
	return s.need.met(text)
}

// Match reports whether a text holds a match.
func (s *Search) Match(text []byte) bool { return s.May(text) && s.compiled().Match(text) }

// MatchString reports whether a short text, a line of one, holds a match.
func (s *Search) MatchString(text string) bool { return s.compiled().MatchString(text) }

// FindStringSubmatch returns the first match of a short text and its groups; nil for none.
func (s *Search) FindStringSubmatch(text string) []string {
	return s.compiled().FindStringSubmatch(text)
}

// Find returns the first match; nil for none.
func (s *Search) Find(text []byte) []byte {
	if !s.May(text) {
		return nil
	}
	return s.compiled().Find(text)
}

// FindIndex returns where the first match begins and ends; nil for none.
func (s *Search) FindIndex(text []byte) []int {
	if !s.May(text) {
		return nil
	}
	return s.compiled().FindIndex(text)
}

// FindSubmatch returns the first match and its groups; nil for none.
func (s *Search) FindSubmatch(text []byte) [][]byte {
	if !s.May(text) {
		return nil
	}
	return s.compiled().FindSubmatch(text)
}

// FindAll returns up to n matches, all where n is less than 0.
func (s *Search) FindAll(text []byte, n int) [][]byte {
	if !s.May(text) {
		return nil
	}
	return s.compiled().FindAll(text, n)
}
