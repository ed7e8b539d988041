// Package strength estimates what a secret is worth to somebody who guesses: in bits, from its least surprising reading as a row of
// common words and passwords, names, dates, rows of the keyboard, sequences, repetitions, and characters drawn at random.
package strength

import (
	"bytes"
	_ "embed" // of the words
	"math"
	"math/bits"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// packed are common words, names and passwords with their rank, from the lists of the Go module github.com/trustelem/zxcvbn v1.0.1 (MIT
// licence, in LICENSE.words): words of ASCII characters in the order of their bytes. Of each there is how many characters it has in common
// with the one before it, in a byte; the others, of which the last has its highest bit set; and its rank (encoding/binary, Uvarint).
//
//go:embed words.bin
var packed string

// dictionary finds the common words in their text.
type dictionary struct {
	text  []byte      // of the words, each with a blank behind it
	lines []uint32    // where each begins
	ranks []uint32    // how early a guesser tries each, from 1
	first [][2]uint32 // by the first characters: the words of at least so many, from one place up to another
	begins
}

// beginnings is about how many beginnings of four characters the common words have.
const beginnings = 16_000

// kinds is how many characters the beginnings of common words are told apart by: letters and digits, and all others together.
const kinds = 37

// kindOf numbers a character; the others have 0.
func kindOf(c rune) int {
	switch {
	case c >= 'a' && c <= 'z':
		return int(c-'a') + 1
	case c >= '0' && c <= '9':
		return int(c-'0') + 27
	}
	return 0
}

// beginning numbers the first characters of a text; ok is false where they are not all letters and digits.
func beginning(a, b, c rune) (n int, ok bool) {
	x, y, z := kindOf(a), kindOf(b), kindOf(c)
	return (x*kinds+y)*kinds + z, x > 0 && y > 0 && z > 0
}

// common is that dictionary, unpacked and looked through when the first secret is judged: no other run pays for it.
var common = sync.OnceValue(func() *dictionary {
	const words, size = 57_000, 560_000 // as it is, and a little more
	d := &dictionary{
		text: make([]byte, 0, size), lines: make([]uint32, 0, words), ranks: make([]uint32, 0, words),
		first: make([][2]uint32, kinds*kinds*kinds), begins: beginsOf(beginnings),
	}
	last := 0 // where the word before begins
	for at := 0; at < len(packed); {
		place, from := uint32(len(d.lines)), len(d.text)
		d.text = append(d.text, d.text[last:last+int(packed[at])]...)
		for at++; packed[at] < 0x80; at++ {
			d.text = append(d.text, packed[at])
		}
		d.text = append(d.text, packed[at]&0x7f, ' ')
		rank, shift := uint32(0), 0
		for at++; packed[at] >= 0x80; at++ {
			rank, shift = rank|uint32(packed[at]&0x7f)<<shift, shift+7
		}
		d.lines, d.ranks, last = append(d.lines, uint32(from)), append(d.ranks, rank|uint32(packed[at])<<shift), from
		at++
		a, b, c, fourth := rune(d.text[from]), rune(d.text[from+1]), rune(d.text[from+2]), rune(d.text[from+shortest])
		if n, ok := beginning(a, b, c); ok {
			if d.first[n][1] == 0 {
				d.first[n][0] = place
			}
			d.first[n][1] = place + 1
		}
		if fourth == ' ' {
			fourth = 0
		}
		d.add(digest(a, b, c, fourth))
	}
	return d
})

// word returns a common word by its place.
func (d *dictionary) word(i int) string {
	word := d.text[d.lines[i]:]
	return string(word[:bytes.IndexByte(word, ' ')])
}

// letter returns a byte of the common word of a place that is at least so long; 0 behind its end.
func (d *dictionary) letter(i, at int) byte {
	if c := d.text[int(d.lines[i])+at]; c != ' ' {
		return c
	}
	return 0
}

// heads finds the words of an ordered list that stand at the beginning of a text: their places, and how many characters they have. It
// looks at one character after the other, in what of the list still fits.
func heads(s []rune, words int, letter func(i, at int) byte, found func(place, length int)) {
	headsIn(s, 0, 0, words, letter, found)
}

// headsIn does so among the words of a part of the list, which all begin with the first known characters of the text, of one byte each.
func headsIn(s []rune, known, from, to int, letter func(i, at int) byte, found func(place, length int)) {
	depth := known
	if known >= shortest && from < to && letter(from, depth) == 0 {
		found(from, known)
	}
	var b [utf8.UTFMax]byte
	for k := known; k < min(len(s), longest); k++ {
		c := s[k]
		for _, x := range b[:utf8.EncodeRune(b[:], c)] {
			if x == 0 { // as behind the end of a word; it is in none
				return
			}
			from += sort.Search(to-from, func(i int) bool { return letter(from+i, depth) >= x })
			to = from + sort.Search(to-from, func(i int) bool { return letter(from+i, depth) > x })
			if depth++; from == to {
				return
			}
		}
		if k+1 >= shortest && letter(from, depth) == 0 {
			found(from, k+1)
		}
	}
}

// begins says with which four characters words may begin, and which words of three there are: a bit for each, at a place that others may
// share.
type begins []uint64

// beginsOf makes room for the beginnings of some words.
func beginsOf(words int) begins { return make(begins, 1<<bits.Len(uint(words))) }

// digest is of the first characters of a word; of a word of three the fourth is 0.
func digest(first, second, third, fourth rune) uint64 {
	h := uint64(uint32(first))<<48 ^ uint64(uint32(second))<<32 ^ uint64(uint32(third))<<16 ^ uint64(uint32(fourth))
	return h * 0x9e3779b97f4a7c15 >> 20 // spread by the golden ratio
}

// add notes the first characters of a word, by their digest.
func (b begins) add(digest uint64) { b[int(digest>>6)&(len(b)-1)] |= 1 << (digest & 63) }

// has reports whether a word may begin with the characters of a digest.
func (b begins) has(digest uint64) bool { return b[int(digest>>6)&(len(b)-1)]>>(digest&63)&1 == 1 }

// Names are words that a guesser knows beforehand, in the order in which they are tried.
type Names struct {
	ranks   map[string]int
	sorted  []string
	begins  begins // of the names
	lengths []int  // of the names, in bytes
}

// NewNames prepares names, whatever their letters' case.
func NewNames(names []string) *Names {
	n := &Names{ranks: make(map[string]int, len(names)), begins: beginsOf(len(names))}
	for i, name := range names {
		if name = strings.ToLower(name); n.ranks[name] > 0 {
			continue
		}
		n.ranks[name] = i + 1
		if r := append([]rune(name), 0); len(r) > shortest {
			n.begins.add(digest(r[0], r[1], r[2], r[shortest]))
		}
		n.lengths, n.sorted = append(n.lengths, len(name)), append(n.sorted, name)
	}
	slices.Sort(n.sorted)
	slices.Sort(n.lengths)
	n.lengths = slices.Compact(n.lengths)
	return n
}

// MostOf reports whether a name of at least so many bytes makes up more than half of a secret, whatever its letters' case.
func (n *Names) MostOf(secret string, least int) bool {
	secret = strings.ToLower(secret)
	for _, size := range n.lengths {
		if size < least || 2*size <= len(secret) {
			continue
		}
		for at := 0; at+size <= len(secret); at++ {
			if n.ranks[secret[at:at+size]] > 0 {
				return true
			}
		}
	}
	return false
}

// letter returns a byte of the name of a place that is at least so long; 0 behind its end.
func (n *Names) letter(i, at int) byte {
	if name := n.sorted[i]; at < len(name) {
		return name[at]
	}
	return 0
}

// digests are of how a text begins: of three characters, and of four where there are so many; ok is false where it is shorter.
func digests(s []rune) (three, four uint64, ok bool) {
	if len(s) < shortest {
		return 0, 0, false
	}
	three = digest(s[0], s[1], s[2], 0)
	if len(s) == shortest {
		return three, three, true
	}
	return three, digest(s[0], s[1], s[2], s[shortest]), true
}

// begin reports whether a text may begin with a name.
func (n *Names) begin(s []rune) bool {
	three, four, ok := digests(s)
	return ok && (n.begins.has(three) || n.begins.has(four))
}

// heads finds the names and common words that stand at the beginning of a text, with how early a guesser tries each. Where most texts of
// a random key begin, there is none.
func (n *Names) heads(s []rune, found func(length, rank int)) {
	three, four, ok := digests(s)
	if !ok {
		return
	}
	if n.begins.has(three) || n.begins.has(four) {
		heads(s, len(n.sorted), n.letter, func(at, length int) { found(length, n.ranks[n.sorted[at]]) })
	}
	d := common()
	if !d.has(three) && !d.has(four) {
		return
	}
	known, from, to := 0, 0, len(d.lines)
	if b, ok := beginning(s[0], s[1], s[2]); ok {
		known, from, to = shortest, int(d.first[b][0]), int(d.first[b][1])
	}
	if from == to {
		return
	}
	headsIn(s, known, from, to, d.letter, func(at, length int) {
		if n.ranks[d.word(at)] == 0 {
			found(length, int(d.ranks[at]))
		}
	})
}

const (
	longest  = 24 // characters of a word that is looked up
	patterns = 47 // keys of a keyboard that a row may begin with
)

// part is a reading of some characters: from i up to j, at a price in bits.
type part struct {
	i, j int
	bits float64
}

// room is what an estimate is worked out in.
type room struct {
	text, lower, back, plain []rune
	signs                    []int
	parts                    []part
	first                    []int // by where parts end: the last of them in parts, from 1
	before                   []int // of each part, the one before it that ends there too
	best                     []float64
}

var rooms = sync.Pool{New: func() any { return new(room) }}

// sized returns a list of a length in the room of another, all zero.
func sized[T any](in []T, n int) []T {
	out := slices.Grow(in[:0], n)[:n]
	clear(out)
	return out
}

// roomFor makes room for an estimate of a secret.
func roomFor(secret string) *room {
	r := rooms.Get().(*room)
	r.text = r.text[:0]
	for _, c := range secret {
		r.text = append(r.text, c)
	}
	return r
}

// leave gives the room back; nothing of the secret stays.
func (r *room) leave() {
	for _, s := range [...][]rune{r.text, r.lower, r.back, r.plain} {
		clear(s)
	}
	rooms.Put(r)
}

// Matter reports whether the names may make a secret worth less: where they do not, Bits is what it is without them.
func (n *Names) Matter(secret string) (may bool) {
	r := roomFor(secret)
	defer r.leave()
	r.ways(func(s []rune, _ []int, _ bool) {
		for from := 0; from < len(s) && !may; from++ {
			may = n.begin(s[from:])
		}
	})
	return may
}

// Bits returns the estimate for a secret whose guesser knows the names.
func (n *Names) Bits(secret string) float64 {
	if secret == "" {
		return 0
	}
	if Printed(secret) {
		return 1
	}
	if bits, ok := n.encoded(secret); ok {
		return bits
	}
	r := roomFor(secret)
	defer r.leave()
	text := r.text
	each := perCharacter(text)
	r.parts = r.parts[:0]
	n.words(r)
	for _, ps := range [][]part{sequences(text), rows(text), dates(text), n.repetitions(text), shaped(text), language(text)} {
		r.parts = append(r.parts, ps...)
	}
	r.first, r.before, r.best = sized(r.first, len(text)+1), sized(r.before, len(r.parts)), sized(r.best, len(text)+1)
	for k, p := range r.parts {
		r.before[k], r.first[p.j] = r.first[p.j], k+1
	}
	for j := 1; j <= len(text); j++ {
		r.best[j] = r.best[j-1] + each
		for k := r.first[j]; k > 0; k = r.before[k-1] {
			p := &r.parts[k-1]
			r.best[j] = min(r.best[j], r.best[p.i]+p.bits)
		}
	}
	return r.best[len(text)]
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

// letterOf are the letters that signs stand for; a 1 is an l or an i.
var letterOf = [0x80]rune{
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

// ways goes through the ways in which words may be written in the text: as it stands, in small letters, and backwards, and each of these
// with letters in place of signs; signs are how many stand before each place then.
func (r *room) ways(each func(s []rune, signs []int, reversed bool)) {
	r.lower = r.lower[:0]
	for _, c := range r.text {
		r.lower = append(r.lower, unicode.ToLower(c))
	}
	r.back = append(r.back[:0], r.lower...)
	slices.Reverse(r.back)
	for n, s := range [...][]rune{r.lower, r.back} {
		each(s, nil, n == 1)
		for _, one := range [...]rune{'i', 'l'} {
			if plain, signs, any := r.unsigned(s, one); any {
				each(plain, signs, n == 1)
			}
			if !slices.Contains(s, '1') { // the other way is the same
				break
			}
		}
	}
}

// words finds common words and the names that are known, also backwards, in capitals, and with signs in place of letters.
func (n *Names) words(r *room) {
	r.ways(func(s []rune, signs []int, reversed bool) {
		for from := range s {
			n.heads(s[from:], func(length, rank int) {
				a, b, price := from, from+length, math.Log2(float64(rank))
				if signs != nil {
					more := signs[b] - signs[a]
					if more == 0 { // as in the text itself
						return
					}
					price += float64(more)
				}
				if reversed {
					a, b = len(s)-b, len(s)-a
				}
				if price += capitals(r.text[a:b]); reversed {
					price++
				}
				r.parts = append(r.parts, part{a, b, price})
			})
		}
	})
}

// shortest is the length of the shortest word that is looked for.
const shortest = 3

// unsigned puts letters in place of the signs that people write for them, one being what 1 stands for. It returns how many signs stand
// before each place, and whether there are any.
func (r *room) unsigned(s []rune, one rune) (plain []rune, signs []int, any bool) {
	r.plain, r.signs = append(r.plain[:0], s...), sized(r.signs, len(s)+1)
	plain, signs = r.plain, r.signs
	for k, c := range s {
		signs[k+1] = signs[k]
		to := rune(0)
		if c == '1' {
			to = one
		} else if c < 0x80 {
			to = letterOf[c]
		}
		if to != 0 {
			plain[k], any = to, true
			signs[k+1]++
		}
	}
	return plain, signs, any
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
	keys := waysOfKeys()
	for i := 0; i+2 < len(lower); i++ {
		if !keys.follow[lower[i]][lower[i+1]] { // as nearly everywhere
			continue
		}
		for _, way := range keys.rows {
			n := 0
			for at := strings.IndexByte(way, lower[i]); at >= 0 && i+n < len(lower) && at+n < len(way) && way[at+n] == lower[i+n]; n++ {
			}
			for k := 3; k <= n; k++ {
				out = append(out, part{i, i + k, math.Log2(patterns) + math.Log2(float64(k)) + capitals(text[i:i+k])})
			}
		}
	}
	return out
}

// keys are the rows of the keyboard in either direction, and which key follows which in any of them.
type keys struct {
	rows   []string
	follow [256][256]bool
}

var waysOfKeys = sync.OnceValue(func() *keys {
	k := &keys{}
	for _, row := range keyboard {
		back := []byte(row)
		slices.Reverse(back)
		k.rows = append(k.rows, row, string(back))
	}
	for _, row := range k.rows {
		for i := range len(row) - 1 {
			k.follow[row[i]][row[i+1]] = true
		}
	}
	return k
})

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

// repetitions finds a piece that stands several times in a row, the last of which may be cut off: it is worth the piece, and how often it
// stands.
func (n *Names) repetitions(text []rune) []part {
	var out []part
	for i := range text {
		for size := 1; size <= 24 && i+2*size <= len(text)+1; size++ { // the separator behind the last may be left out
			end := i + size
			for end < len(text) && text[end] == text[end-size] {
				end++
			}
			if times := (end - i + 1) / size; times > 2 || times == 2 && size > 2 {
				out = append(out, part{i, end, n.Bits(string(text[i:i+size])) + math.Log2(float64(times))})
			}
		}
	}
	return out
}
