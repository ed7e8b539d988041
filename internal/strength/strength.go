// Package strength estimates what a secret is worth to somebody who guesses: in bits, from its least surprising reading as a row of
// common words and passwords, names, dates, rows of the keyboard, sequences, repetitions, and characters drawn at random.
package strength

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"io"
	"iter"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
)

// packed are common words, names and passwords with their rank, from the lists of the Go module github.com/trustelem/zxcvbn v1.0.1 (MIT
// licence, in LICENSE.words): a word and its rank a line, gzip.
//
//go:embed words.gz
var packed []byte

// common are those words, unpacked when the first secret is judged: no other run pays for it.
var common = sync.OnceValue(func() map[string]int {
	out := map[string]int{}
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return out
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return out
	}
	for line := range strings.Lines(string(text)) {
		word, rank, _ := strings.Cut(strings.TrimSpace(line), " ")
		out[word], _ = strconv.Atoi(rank)
	}
	return out
})

const (
	longest  = 24 // characters of a word that is looked up
	patterns = 47 // keys of a keyboard that a row may begin with
)

// part is a reading of some characters: from i up to j, at a price in bits.
type part struct {
	i, j int
	bits float64
}

// Bits returns the estimate for a secret whose guesser knows some names.
func Bits(secret string, names []string) float64 {
	text := []rune(secret)
	if len(text) == 0 {
		return 0
	}
	known := map[string]int{}
	for i, n := range names {
		if n = strings.ToLower(n); known[n] == 0 {
			known[n] = i + 1
		}
	}
	each := perCharacter(text)
	ending := make([][]part, len(text)+1)
	for _, ps := range [][]part{words(text, known), sequences(text), rows(text), dates(text), repetitions(text, names)} {
		for _, p := range ps {
			ending[p.j] = append(ending[p.j], p)
		}
	}
	best := make([]float64, len(text)+1)
	for j := 1; j <= len(text); j++ {
		best[j] = best[j-1] + each
		for _, p := range ending[j] {
			best[j] = min(best[j], best[p.i]+p.bits)
		}
	}
	return best[len(text)]
}

// perCharacter returns the bits of a character drawn at random from the kinds that a text has.
func perCharacter(text []rune) float64 {
	hex, digits := true, true
	var lower, upper, digit, other bool
	for _, c := range text {
		hex = hex && (c >= '0' && c <= '9' || c >= 'a' && c <= 'f')
		digits = digits && c >= '0' && c <= '9'
		lower, upper, digit = lower || c >= 'a' && c <= 'z', upper || c >= 'A' && c <= 'Z', digit || c >= '0' && c <= '9'
		other = other || !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9')
	}
	if digits {
		return math.Log2(10)
	}
	if hex {
		return 4
	}
	size := 0.0
	for _, k := range []struct {
		has  bool
		size float64
	}{{lower, 26}, {upper, 26}, {digit, 10}, {other, 33}} {
		if k.has {
			size += k.size
		}
	}
	return math.Log2(size)
}

// leet are the signs that stand for letters; a 1 is an l or an i.
var leet = map[rune]rune{
	'4': 'a',
	'@': 'a',
	'8': 'b',
	'(': 'c',
	'3': 'e',
	'6': 'g',
	'9': 'g',
	'!': 'i',
	'|': 'l',
	'0': 'o',
	'5': 's',
	'$': 's',
	'7': 't',
	'+': 't',
	'2': 'z',
}

// words finds common words and the names that are known, also backwards, in capitals, and with signs in place of letters.
func words(text []rune, names map[string]int) []part {
	var out []part
	lower := []rune(strings.ToLower(string(text)))
	if len(lower) != len(text) { // some letters change their length
		lower = text
	}
	known := beginningsOf(maps.Keys(names))
	look := func(s []rune, reversed bool) {
		for one, i := range map[rune]bool{'i': true, 'l': false} {
			plain, signs, any := unsigned(s, one)
			for from := range s {
				written, meant := begins(s[from:], known), any && begins(plain[from:], known)
				if !written && !meant {
					continue
				}
				for to := from + shortest; to <= min(len(s), from+longest); to++ {
					for _, variant := range []struct {
						word  []rune
						signs int
						may   bool
					}{{s[from:to], 0, written}, {plain[from:to], signs[to] - signs[from], meant && signs[to] > signs[from]}} {
						if !variant.may {
							continue
						}
						rank := rankOf(string(variant.word), names)
						if rank == 0 {
							continue
						}
						a, b := from, to
						if reversed {
							a, b = len(s)-to, len(s)-from
						}
						bits := math.Log2(float64(rank)) + float64(variant.signs) + capitals(text[a:b])
						if reversed {
							bits++
						}
						out = append(out, part{a, b, bits})
					}
				}
			}
			if !any || !i && !slices.Contains(s, '1') {
				break
			}
		}
	}
	look(lower, false)
	back := slices.Clone(lower)
	slices.Reverse(back)
	look(back, true)
	return out
}

// shortest is the length of the shortest word that is looked for.
const shortest = 3

// beginning are the first letters of a word.
type beginning [shortest]rune

func beginningOf(word []rune) (b beginning, ok bool) {
	if len(word) < shortest {
		return b, false
	}
	return beginning(word[:shortest]), true
}

// begins reports whether a common word, or one of the names, may begin where a text does: most texts of a random key begin none.
func begins(text []rune, names map[beginning]bool) bool {
	b, ok := beginningOf(text)
	return ok && (names[b] || beginnings()[b])
}

// beginnings are those of all common words.
var beginnings = sync.OnceValue(func() map[beginning]bool { return beginningsOf(maps.Keys(common())) })

func beginningsOf(words iter.Seq[string]) map[beginning]bool {
	out := map[beginning]bool{}
	for word := range words {
		if b, ok := beginningOf([]rune(word)); ok {
			out[b] = true
		}
	}
	return out
}

// unsigned puts letters in place of the signs that people write for them, one being what 1 stands for. It returns how many signs stand
// before each place, and whether there are any.
func unsigned(s []rune, one rune) (plain []rune, signs []int, any bool) {
	plain, signs = slices.Clone(s), make([]int, len(s)+1)
	for k, c := range s {
		signs[k+1] = signs[k]
		to, ok := leet[c]
		if c == '1' {
			to, ok = one, true
		}
		if ok {
			plain[k], any = to, true
			signs[k+1]++
		}
	}
	return plain, signs, any
}

// rankOf returns how early a guesser tries a word; 0 for never.
func rankOf(word string, names map[string]int) int {
	if n := names[word]; n > 0 {
		return n
	}
	return common()[word]
}

// capitals returns the bits of how a word is written: none in small letters, one where it begins or ends with a capital or is all capitals,
// else of the choice among its letters.
func capitals(word []rune) float64 {
	up, low := 0, 0
	for _, c := range word {
		if unicode.IsUpper(c) {
			up++
		} else if unicode.IsLower(c) {
			low++
		}
	}
	switch {
	case up == 0:
		return 0
	case low == 0, up == 1 && (unicode.IsUpper(word[0]) || unicode.IsUpper(word[len(word)-1])):
		return 1
	}
	return math.Log2(math.Exp2(float64(min(up, low))) * float64(up+low))
}

// sequences finds runs of characters each of which is one more, or one less, than the one before it.
func sequences(text []rune) []part {
	var out []part
	for i := 0; i+2 < len(text); {
		step := text[i+1] - text[i]
		j := i + 1
		for j < len(text) && text[j]-text[j-1] == step && (step == 1 || step == -1) {
			j++
		}
		if j-i < 3 {
			i++
			continue
		}
		base := math.Log2(26)
		switch c := text[i]; {
		case c == 'a' || c == 'A' || c == 'z' || c == 'Z' || c == '0' || c == '1' || c == '9':
			base = 2
		case unicode.IsDigit(c):
			base = math.Log2(10)
		case unicode.IsUpper(c):
			base++
		}
		if step < 0 {
			base++
		}
		for k := i + 3; k <= j; k++ {
			out = append(out, part{i, k, base + math.Log2(float64(k-i))})
		}
		i = j - 1
	}
	return out
}

var keyboard = []string{
	"qwertyuiop",
	"qwertzuiop",
	"azertyuiop",
	"asdfghjkl",
	"zxcvbnm",
	"yxcvbnm",
	"1234567890",
	"!@#$%^&*()",
	"1qaz2wsx3edc4rfv5tgb6yhn7ujm",
}

// rows finds pieces of rows of the keyboard, in either direction.
func rows(text []rune) []part {
	var out []part
	lower := strings.ToLower(string(text))
	if len(lower) != len(text) {
		return nil
	}
	for i := 0; i+2 < len(lower); i++ {
		for _, row := range keyboard {
			for _, way := range []string{row, reversed(row)} {
				n := 0
				for at := strings.IndexByte(way, lower[i]); at >= 0 && i+n < len(lower) && at+n < len(way) && way[at+n] == lower[i+n]; n++ {
				}
				for k := 3; k <= n; k++ {
					out = append(out, part{i, i + k, math.Log2(patterns) + math.Log2(float64(k)) + capitals(text[i:i+k])})
				}
			}
		}
	}
	return out
}

func reversed(s string) string {
	b := []byte(s)
	slices.Reverse(b)
	return string(b)
}

// dates finds years, and days written in digits.
func dates(text []rune) []part {
	var out []part
	for i := range text {
		digits := 0
		for i+digits < len(text) && digits < 8 && unicode.IsDigit(text[i+digits]) {
			digits++
		}
		if digits >= 4 {
			if year, err := strconv.Atoi(string(text[i : i+4])); err == nil && year >= 1900 && year <= 2059 {
				out = append(out, part{i, i + 4, math.Log2(160)})
			}
		}
		for _, n := range []int{6, 8} {
			if digits >= n && day(string(text[i:i+n])) {
				out = append(out, part{i, i + n, math.Log2(366 * 160)})
			}
		}
	}
	return out
}

// day reports whether six or eight digits are a day in any of the usual orders.
func day(s string) bool {
	two := func(at int) int { n, _ := strconv.Atoi(s[at : at+2]); return n }
	ok := func(d, m int) bool { return d >= 1 && d <= 31 && m >= 1 && m <= 12 }
	if len(s) == 6 {
		return ok(two(0), two(2)) || ok(two(2), two(0)) || ok(two(4), two(2))
	}
	first, _ := strconv.Atoi(s[:4])
	last, _ := strconv.Atoi(s[4:])
	year := func(n int) bool { return n >= 1900 && n <= 2059 }
	return year(last) && (ok(two(0), two(2)) || ok(two(2), two(0))) || year(first) && ok(two(6), two(4))
}

// repetitions finds a piece that stands several times in a row: it is worth the piece, and how often it stands.
func repetitions(text []rune, names []string) []part {
	var out []part
	for i := range text {
		for size := 1; size <= 12 && i+2*size <= len(text); size++ {
			n := 1
			for i+(n+1)*size <= len(text) && slices.Equal(text[i:i+size], text[i+n*size:i+(n+1)*size]) {
				n++
			}
			if n > 2 || n == 2 && size > 2 {
				out = append(out, part{i, i + n*size, Bits(string(text[i:i+size]), names) + math.Log2(float64(n))})
			}
		}
	}
	return out
}
