package lazy

import (
	"bytes"
	"regexp"
	"regexp/syntax"
	"sync"
)

// Search looks for an expression in long texts. Where a text has none of the words one of which every match must have, which is soon found
// out, the expression is not tried.
type Search struct {
	compiled func() *regexp.Regexp
	words    func() [][]byte
}

// NewSearch makes a search, compiled when it is first asked. A pattern that is none panics then.
func NewSearch(pattern string) *Search {
	return &Search{
		compiled: Regexp(pattern),
		words: sync.OnceValue(func() [][]byte {
			tree, err := syntax.Parse(pattern, syntax.Perl)
			if err != nil {
				return nil // compiling it says so
			}
			var out [][]byte
			for _, w := range needed(tree.Simplify()) {
				out = append(out, []byte(w))
			}
			return out
		}),
	}
}

// May reports whether a text may hold a match: it has one of the words that a match needs.
func (s *Search) May(text []byte) bool {
	words := s.words()
	for _, w := range words {
		if bytes.Contains(text, w) {
			return true
		}
	}
	return len(words) == 0
}

// Match reports whether a text holds a match.
func (s *Search) Match(text []byte) bool { return s.May(text) && s.compiled().Match(text) }

// MatchString reports whether a short text, a line of one, holds a match.
func (s *Search) MatchString(text string) bool { return s.compiled().MatchString(text) }

// FindStringSubmatch returns the first match of a short text and its groups; nil for none.
func (s *Search) FindStringSubmatch(text string) []string { return s.compiled().FindStringSubmatch(text) }

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

// most is up to how many words are looked for; with more, trying the expression is not much slower.
const most = 96

// needed returns words one of which every match of an expression must have; none where there are no such words.
func needed(re *syntax.Regexp) []string {
	switch re.Op {
	case syntax.OpLiteral:
		if re.Flags&syntax.FoldCase != 0 {
			return nil
		}
		return []string{string(re.Rune)}
	case syntax.OpCapture, syntax.OpPlus:
		return needed(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return needed(re.Sub[0])
		}
	case syntax.OpConcat: // the part with the longest words, as these are the rarest
		var best []string
		for _, sub := range re.Sub {
			if words := needed(sub); shortestOf(words) > shortestOf(best) {
				best = words
			}
		}
		return best
	case syntax.OpAlternate:
		var all []string
		for _, sub := range re.Sub {
			words := needed(sub)
			if len(words) == 0 || len(all)+len(words) > most {
				return nil
			}
			all = append(all, words...)
		}
		return all
	}
	return nil
}

// shortestOf is the length of the shortest of some words; 0 for none.
func shortestOf(words []string) int {
	least := 0
	for _, w := range words {
		if least == 0 || len(w) < least {
			least = len(w)
		}
	}
	return least
}
