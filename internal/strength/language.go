package strength

import (
	"math"
	"slices"
	"strings"
	"sync"
	"unicode"
)

// pairs are what it costs, in bits, that a letter follows another in words: how rare that is in the common ones.
var pairs = sync.OnceValue(func() *[26][26]float64 {
	var seen [26][26]float64
	for i := range common().lines {
		word := common().word(i)
		for k := 1; k < len(word); k++ {
			a, b := int(word[k-1])-'a', int(word[k])-'a'
			if a >= 0 && a < 26 && b >= 0 && b < 26 {
				seen[a][b]++
			}
		}
	}
	for a := range seen {
		total := 0.0
		for _, n := range seen[a] {
			total += n + 1
		}
		for b, n := range seen[a] {
			seen[a][b] = math.Log2(total / (n + 1))
		}
	}
	return &seen
})

const (
	leastLetters = 12  // that a text must have before it can be told to be of some language
	languageMost = 4.4 // bits that a letter costs behind another, at most, in a language; of random letters it is more than 5
	perLetter    = 2.5 // bits that a letter of some language is worth in words that nobody listed
)

// plainOf are letters that are written with a sign, without it.
var plainOf = map[rune]rune{'ä': 'a', 'à': 'a', 'á': 'a', 'â': 'a', 'ã': 'a', 'å': 'a', 'ç': 'c', 'è': 'e', 'é': 'e', 'ê': 'e', 'ë': 'e',
	'ì': 'i', 'í': 'i', 'î': 'i', 'ï': 'i', 'ñ': 'n', 'ò': 'o', 'ó': 'o', 'ô': 'o', 'õ': 'o', 'ö': 'o', 'ø': 'o', 'ù': 'u', 'ú': 'u',
	'û': 'u', 'ü': 'u', 'ý': 'y', 'ß': 's', 'š': 's', 'ž': 'z', 'č': 'c', 'ř': 'r'}

// language finds rows of letters, also with one separator between words, that read like some language: they are worth less than letters
// drawn at random, whichever language it is; and sentences, which are worth what NIST SP 800-63 (2006, appendix A) gives what people write.
func language(text []rune) []part {
	var out []part
	letter := func(c rune) (int, bool) {
		c = unicode.ToLower(c)
		if p, ok := plainOf[c]; ok {
			c = p
		}
		return int(c - 'a'), c >= 'a' && c <= 'z'
	}
	costs := pairs()
	for from := 0; from < len(text); {
		letters, compared, cost, last, to := 0, 0, 0.0, -1, from
		for ; to < len(text); to++ {
			c, ok := letter(text[to])
			if !ok {
				if last < 0 || !strings.ContainsRune(" -_.,'", text[to]) {
					break
				}
				last = -1
				continue
			}
			if letters++; last >= 0 {
				cost, compared = cost+costs[last][c], compared+1
			}
			last = c
		}
		if letters >= leastLetters && capitalised(text[from:to]) && cost/float64(max(compared, 1)) <= languageMost {
			price := perLetter * float64(to-from)
			if sentence(string(text[from:to])) {
				price = written(to - from)
			}
			out = append(out, part{from, to, price})
		}
		from = max(to, from+1)
	}
	return out
}

// capitalised reports whether letters are capital as people have them: all, or those that begin a word of three letters or more.
func capitalised(text []rune) bool {
	if !slices.ContainsFunc(text, unicode.IsLower) {
		return true
	}
	for i, c := range text {
		if unicode.IsUpper(c) && (i+2 >= len(text) || !unicode.IsLower(text[i+1]) || !unicode.IsLower(text[i+2])) {
			return false
		}
	}
	return true
}

// little are the words that stand in most sentences, of several languages.
var little = strings.Fields("a an and are as at be by for from i in is it my no not of on or our that the this to we with you your " +
	"das dem den der des die ein eine es fuer für ich im ist mit nicht oder und von wir zu zum zur " +
	"au aux avec ce dans de du en est et il je la le les mais mon nous ou par pas pour que qui sans sur un une vous " +
	"con del el es esta los las mi no para por pero se si su y che con da di e il lo non per sono " +
	"aan het een en op niet van voor")

// sentence reports whether a text is one that people say: four words or more, every fourth of which is a little one.
func sentence(text string) bool {
	words := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return strings.ContainsRune(" -_.,'", r) })
	n := 0
	for _, w := range words {
		if slices.Contains(little, w) {
			n++
		}
	}
	return len(words) >= 4 && 4*n >= len(words)
}

// written is what so many characters are worth that people thought of themselves: 4 bits the first, 2 each up to the eighth, 1.5 up to the
// twentieth, and 1 each from there.
func written(n int) float64 {
	return 4 + 2*float64(min(max(n-1, 0), 7)) + 1.5*float64(min(max(n-8, 0), 12)) + float64(max(n-20, 0))
}
