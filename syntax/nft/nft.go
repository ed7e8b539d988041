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

	data  []byte
	text  string // the same; tokens are parts of it
	at    int
	still bool
}

// Scan begins with a file.
func Scan(data []byte) Scanner { return Scanner{Line: 1, data: data, text: string(data)} }

// ScanAt begins with a text that was made of a statement of another form, on a line of its file: all tokens stand there, and none has bytes
// of its own.
func ScanAt(text string, line int) Scanner {
	return Scanner{Line: line, data: []byte(text), text: text, still: true}
}

// signs are operators written as words.
var signs = map[string]string{
	"and":    "&",
	"or":     "|",
	"xor":    "^",
	"not":    "!",
	"lshift": "<<",
	"rshift": ">>",
	"eq":     "==",
	"ne":     "!=",
	"lt":     "<",
	"gt":     ">",
	"le":     "<=",
	"ge":     ">=",
}

var macAddress = lazy.Regexp(`^[0-9a-fA-F]{1,2}(:[0-9a-fA-F]{1,2}){5}$`)

// WordByte reports whether a byte may stand in a word.
func WordByte(c byte) bool {
	switch {
	case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c >= 0x80:
		return true
	}
	switch c {
	case '.', '_', '/', '-', '*', '%', '+', '\\', '@', '$':
		return true
	}
	return false
}

// colon reports whether a colon stands in the word that begins here, or behind it: it may then hold an address with colons.
func (l *Scanner) colon() bool {
	for _, c := range l.data[l.at:] {
		if c == ':' || c == '[' {
			return true
		}
		if !WordByte(c) {
			return false
		}
	}
	return false
}

// joins returns the length of a backslash with the line end behind it; 0 where none stands here.
func (l *Scanner) joins() int {
	rest := l.data[l.at+1:]
	n := len(rest) - len(bytes.TrimLeft(rest, "\r"))
	if n >= len(rest) || rest[n] != '\n' {
		return 0
	}
	return n + 2
}

func (l *Scanner) token(kind Kind, text string, line, start, end int) Token {
	t := Token{kind, text, syntax.Place{Line: line}}
	if !l.still {
		t.Range = source.Range{Start: start, End: end}
	}
	return t
}

func (l *Scanner) newLine() {
	if !l.still {
		l.Line++
	}
}

// Next returns the next token; at the end, again and again, one of kind End.
func (l *Scanner) Next() Token {
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
			t := l.token(Row, l.text[l.at:l.at+1], l.Line, l.at, l.at+1)
			if c == '\n' {
				l.newLine()
			}
			l.at++
			return t
		default:
			return l.solid(c)
		}
	}
	return l.token(End, "", l.Line, l.at, l.at)
}

// solid returns the token that begins here.
func (l *Scanner) solid(c byte) Token {
	line, begin := l.Line, l.at
	if c == '"' {
		start := l.at + 1
		for l.at++; l.at < len(l.data) && l.data[l.at] != '"'; l.at++ {
			if l.data[l.at] == '\n' {
				l.newLine()
			}
		}
		l.Open = l.at >= len(l.data)
		s := l.text[start:min(l.at, len(l.text))]
		if l.at < len(l.data) && l.data[l.at] == '"' {
			l.at++
		}
		return l.token(Text, s, line, begin, l.at)
	}
	start := l.at
	colon := l.colon()
	if colon {
		l.at += l.address()
	}
	for l.at < len(l.data) && WordByte(l.data[l.at]) {
		if colon {
			if n := l.address(); n > 0 { // the second address of a range
				l.at += n
				continue
			}
		}
		l.at++
	}
	if l.at > start {
		s := l.text[start:l.at]
		if s == "." {
			return l.token(Mark, ".", line, begin, l.at)
		}
		if sign := signs[s]; sign != "" {
			return l.token(Mark, sign, line, begin, l.at)
		}
		return l.token(Word, s, line, begin, l.at)
	}
	l.at++
	switch pair := l.text[start:min(start+2, len(l.text))]; pair {
	case "==", "!=", "<=", ">=", "<<", ">>", "&&", "||":
		l.at++
		return l.token(Mark, pair, line, begin, l.at)
	}
	return l.token(Mark, l.text[start:start+1], line, begin, l.at)
}

// address returns the length of an IPv6 address, in brackets or not, or of a hardware address, that starts here.
func (l *Scanner) address() int {
	rest := l.data[l.at:min(l.at+64, len(l.data))]
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
