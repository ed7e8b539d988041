package json

import "bytes"

// indented appends what was encoded without any spaces, in lines that are indented by two spaces for each level; before stands at the
// beginning of each line but the first. An empty object or list is one word.
func indented(out, compact []byte, before string) []byte {
	depth := 0
	line := func() {
		out = append(append(out, '\n'), before...)
		for range depth {
			out = append(out, "  "...)
		}
	}
	for i := 0; i < len(compact); {
		switch c := compact[i]; c {
		case '"':
			end := i + 1 + text(compact[i+1:])
			out = append(out, compact[i:end]...)
			i = end
			continue
		case '{', '[':
			if compact[i+1] == c+2 { // in ASCII, the one that closes it
				out = append(out, c, c+2)
				i += 2
				continue
			}
			out = append(out, c)
			depth++
			line()
		case '}', ']':
			depth--
			line()
			out = append(out, c)
		case ',':
			out = append(out, c)
			line()
		case ':':
			out = append(out, ": "...)
		default:
			out = append(out, c)
		}
		i++
	}
	return out
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
