package json

import (
	"bytes"
	"strings"
)

// indented appends what was encoded without any spaces, in lines that are indented by two spaces for each level; before stands at the
// beginning of each line but the first. An empty object or list is one word.
func indented(out, compact []byte, before string) []byte {
	lines := []byte("\n" + before + strings.Repeat("  ", 8))
	depth, sent := 0, 0 // how much of the text is in out
	for i := 0; i < len(compact); i++ {
		end := i + 1 // of what a line end comes behind
		switch c := compact[i]; c {
		case '"':
			if i++; compact[i] != '"' { // many texts are empty
				i += text(compact[i:]) - 1
			}
			continue
		case ':':
			out = append(append(out, compact[sent:end]...), ' ')
			sent = end
			continue
		case '{', '[':
			if compact[end] == c+2 { // in ASCII, the one that closes it
				i++
				continue
			}
			depth++
		case '}', ']':
			depth--
			end = i
		case ',':
		default:
			continue
		}
		for len(lines) < 1+len(before)+2*depth {
			lines = append(lines, "  "...)
		}
		out = append(append(out, compact[sent:end]...), lines[:1+len(before)+2*depth]...)
		sent = end
	}
	return append(out, compact[sent:]...)
}

// text returns how long a text is that has begun, with the quotation mark that ends it.
func text(rest []byte) int {
	for at := 0; ; {
		end := at + bytes.IndexByte(rest[at:], '"')
		slashes := 0
		for end-slashes > at && rest[end-slashes-1] == '\\' {
			slashes++
		}
		if at = end + 1; slashes%2 == 0 {
			return at
		}
	}
}
