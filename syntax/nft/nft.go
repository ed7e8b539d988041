// Package nft reads the syntax of nftables, as "nft list ruleset" prints it or as people write it: words, texts in quotation marks, marks,
// and line ends, which end statements (nft(8)). It knows no meaning.
package nft

import (
	"bytes"
	"net/netip"
	"strings"

	"toril/internal/lazy"
	"toril/source"
	"toril/syntax"
)

// Kind is what a token is.
type Kind uint8

// The kinds.
const (
	End  Kind = iota // of the file
	Word             // a name, number, address, range, prefix
	Text             // in quotation marks
	Mark             // { } ( ) , = : . & | ^ ! < > and their pairs
	Row              // a line end or a semicolon
)

// Token is a piece of the text.
type Token struct {
	Kind Kind
	Text string // of what is in quotation marks, without them; of an operator written as a word, its sign
	syntax.Place
}

// Is reports whether the token is a word or a mark of that text.
func (t Token) Is(text string) bool { return t.Kind != Text && t.Text == text }

// Scanner cuts a text into tokens. It never fails: what it does not know becomes a mark of one byte.
type Scanner struct {
	Line int  // that it has come to
	Open bool // a text that was begun is not closed
	Junk bool // a character came that the program has no use for

	data []byte
	text string // the same; tokens are parts of it
	at   int
	made syntax.Place // of what the text was made of; zero for a file
}

// Scan returns a Scanner of a whole file.
func Scan(data []byte) Scanner { return Scanner{Line: 1, data: data, text: string(data)} }

// From is the scanner at another byte of its file, which stands on a line.
func (l Scanner) From(at, line int) Scanner {
	l.at, l.Line, l.Open, l.Junk = at, line, false, false
	return l
}

// ScanMade begins with a text that was made of a statement of another form: all tokens stand where that stands.
func ScanMade(text string, of syntax.Place) Scanner {
	return Scanner{Line: of.Line, data: []byte(text), text: text, made: of}
}

// sign returns the sign of an operator that is written as a word; "" where the word is none.
func sign(word string) string {
	if len(word) > len("lshift") {
		return ""
	}
	switch word {
	case "and":
		return "&"
	case "or":
		return "|"
	case "xor":
		return "^"
	case "not":
		return "!"
	case "lshift":
		return "<<"
	case "rshift":
		return ">>"
	case "eq":
		return "=="
	case "ne":
		return "!="
	case "lt":
		return "<"
	case "gt":
		return ">"
	case "le":
		return "<="
	case "ge":
		return ">="
	}
	return ""
}

var macAddress = lazy.Regexp(`^[0-9a-fA-F]{1,2}(:[0-9a-fA-F]{1,2}){5}$`)

// WordByte reports whether a byte may stand in a word.
func WordByte(c byte) bool { return inWord[c] }

var inWord = func() (is [256]bool) {
	for c := range is {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c >= 0x80, strings.IndexByte("._/-*%+\\@$", byte(c)) >= 0:
			is[c] = true
		}
	}
	return is
}()

// joins returns the length of a backslash with the line end behind it; 0 where none stands here.
func (l *Scanner) joins() int {
	rest := l.data[l.at+1:]
	n := len(rest) - len(bytes.TrimLeft(rest, "\r"))
	if n >= len(rest) || rest[n] != '\n' {
		return 0
	}
	return n + 2
}

func (l *Scanner) token(t *Token, kind Kind, text string, line, start, end int) {
	t.Kind, t.Text, t.Place = kind, text, l.made
	if l.made.Line == 0 {
		t.Place = syntax.Place{Line: line, Range: source.Range{Start: start, End: end}}
	}
}

func (l *Scanner) newLine() {
	if l.made.Line == 0 {
		l.Line++
	}
}

// Next returns the next token; at the end, again and again, one of kind End.
func (l *Scanner) Next() (t Token) {
	l.Take(&t)
	return t
}

// Take writes the next token, as Next returns it.
func (l *Scanner) Take(t *Token) {
	for l.at < len(l.data) {
		switch c := l.data[l.at]; {
		case c == '\\' && l.joins() > 0: // the line goes on
			n := l.joins()
			l.Junk = l.Junk || n > 2
			l.at += n
			l.newLine()
		case c == ' ' || c == '\t':
			l.at++
		case c == '\r':
			l.Junk = true
			l.at++
		case c == '#':
			for l.at < len(l.data) && l.data[l.at] != '\n' {
				l.at++
			}
		case c == '\n' || c == ';':
			l.token(t, Row, l.text[l.at:l.at+1], l.Line, l.at, l.at+1)
			if c == '\n' {
				l.newLine()
			}
			l.at++
			return
		default:
			l.solid(t, c)
			return
		}
	}
	l.token(t, End, "", l.Line, l.at, l.at)
}

// solid reads the token that begins here.
func (l *Scanner) solid(t *Token, c byte) {
	line, start := l.Line, l.at
	if c == '"' {
		for l.at++; l.at < len(l.data) && l.data[l.at] != '"'; l.at++ {
			if l.data[l.at] == '\n' {
				l.newLine()
			}
		}
		l.Open = l.at >= len(l.data)
		s := l.text[start+1 : min(l.at, len(l.text))]
		if !l.Open {
			l.at++
		}
		l.token(t, Text, s, line, start, l.at)
		return
	}
	for l.at < len(l.data) && inWord[l.data[l.at]] {
		l.at++
	}
	if l.at < len(l.data) && (l.data[l.at] == ':' || l.data[l.at] == '[') { // an address with colons may begin here, or in the word
		l.at = start + withColons(l.data[start:])
	}
	switch s := l.text[start:l.at]; {
	case s == ".":
		l.token(t, Mark, s, line, start, l.at)
		return
	case sign(s) != "":
		l.token(t, Mark, sign(s), line, start, l.at)
		return
	case s != "":
		l.token(t, Word, s, line, start, l.at)
		return
	}
	l.at++
	s := l.text[start:l.at]
	switch pair := l.text[start:min(start+2, len(l.text))]; pair {
	case "==", "!=", "<=", ">=", "<<", ">>", "&&", "||":
		l.at++
		s = pair
	}
	l.token(t, Mark, s, line, start, l.at)
}

// withColons returns the length of the word that begins a text, addresses with colons included.
func withColons(text []byte) int {
	n := address(text)
	for n < len(text) && inWord[text[n]] {
		if more := address(text[n:]); more > 0 { // the second address of a range
			n += more
			continue
		}
		n++
	}
	return n
}

// address returns the length of an IPv6 address, in brackets or not, or of a hardware address, that begins a text.
func address(text []byte) int {
	rest := text[:min(64, len(text))]
	if len(rest) > 0 && rest[0] == '[' {
		if i := strings.IndexByte(string(rest), ']'); i > 0 {
			if _, err := netip.ParseAddr(string(rest[1:i])); err == nil {
				return i + 1
			}
		}
		return 0
	}
	n, colons := 0, 0
	for n < len(rest) && strings.IndexByte("0123456789abcdefABCDEF:.", rest[n]) >= 0 {
		if rest[n] == ':' {
			colons++
		}
		n++
	}
	if colons < 2 {
		return 0
	}
	run := rest[:n]
	for len(run) > 0 && strings.Count(string(run), ":") >= 2 {
		if _, err := netip.ParseAddr(string(run)); err == nil || macAddress().Match(run) {
			return len(run)
		}
		run = run[:len(run)-1]
	}
	return 0
}
