package nftables

import (
	"net/netip"
	"strings"

	"toril/internal/lazy"
)

type kind uint8

const (
	end    kind = iota
	word        // a name, number, address, range, prefix
	text        // in quotes
	mark        // { } ( ) , = : . & | ^ ! < > and their pairs
	newRow      // a line end or a semicolon
)

type token struct {
	kind kind
	s    string
	line int
}

func (t token) is(s string) bool { return t.kind != text && t.s == s }

// lexer cuts the text into tokens. It never fails: what it does not know becomes a mark of one byte.
type lexer struct {
	data []byte
	at   int
	line int
	open bool // a string that was begun is not closed
	junk bool // a character came that the program has no use for

	still bool // lines are not counted: the text is made of a statement of another form
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

func wordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80 || strings.IndexByte(`._/-*%+\@$`, c) >= 0
}

func (l *lexer) newLine() {
	if !l.still {
		l.line++
	}
}

func (l *lexer) next() token {
	for l.at < len(l.data) {
		switch c := l.data[l.at]; {
		case c == '\\' && l.at+1 < len(l.data) && (l.data[l.at+1] == '\n' || l.data[l.at+1] == '\r'): // the line goes on
			l.at++
			for l.data[l.at] != '\n' && l.at+1 < len(l.data) {
				l.junk = l.junk || l.data[l.at] == '\r'
				l.at++
			}
			l.at++
			l.newLine()
		case c == ' ' || c == '\t':
			l.at++
		case c == '\r':
			l.junk = true
			l.at++
		case c == '#':
			for l.at < len(l.data) && l.data[l.at] != '\n' {
				l.at++
			}
		case c == '\n' || c == ';':
			t := token{newRow, string(c), l.line}
			if c == '\n' {
				l.newLine()
			}
			l.at++
			return t
		default:
			return l.solid(c)
		}
	}
	return token{kind: end, line: l.line}
}

func (l *lexer) solid(c byte) token {
	line := l.line
	if c == '"' {
		start := l.at + 1
		for l.at++; l.at < len(l.data) && l.data[l.at] != '"'; l.at++ {
			if l.data[l.at] == '\n' {
				l.newLine()
			}
		}
		l.open = l.at >= len(l.data)
		s := string(l.data[start:min(l.at, len(l.data))])
		if l.at < len(l.data) && l.data[l.at] == '"' {
			l.at++
		}
		return token{text, s, line}
	}
	start := l.at
	if n := l.address(); n > 0 {
		l.at += n
	}
	for l.at < len(l.data) && wordByte(l.data[l.at]) {
		if n := l.address(); n > 0 { // the second address of a range
			l.at += n
			continue
		}
		l.at++
	}
	if l.at > start {
		s := string(l.data[start:l.at])
		if s == "." {
			return token{mark, ".", line}
		}
		if sign := signs[s]; sign != "" {
			return token{mark, sign, line}
		}
		return token{word, s, line}
	}
	l.at++
	switch pair := string(l.data[start:min(start+2, len(l.data))]); pair {
	case "==", "!=", "<=", ">=", "<<", ">>", "&&", "||":
		l.at++
		return token{mark, pair, line}
	}
	return token{mark, string(l.data[start : start+1]), line}
}

// address returns the length of an IPv6 address, in brackets or not, or of a hardware address, that starts here.
func (l *lexer) address() int {
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
