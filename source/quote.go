package source

import (
	"cmp"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"toril/internal/lazy"
)

// What stands in a quote in place of what is not shown: a text that nobody understood may be a secret, and so may a comment.
const (
	MaskUnread  = "[unread]"
	MaskComment = "[comment]"
)

// Manner is how the files of a format are quoted.
type Manner struct {
	Comments []string        // what begins a comment, at the beginning of a line or behind a blank
	Words    map[string]bool // in small letters: the words of the formats themselves, which tell nothing
	Open     bool            // what was not understood is shown all the same
}

// As sets how the file is quoted.
func (f *File) As(m *Manner) { f.manner = m }

// Hide marks a text as secret: it is masked in quotes of the line, and of those that it goes on in.
func (f *File) Hide(line int, secret string) {
	for part := range strings.Lines(secret) {
		if part = strings.TrimSpace(part); part != "" {
			f.hidden[line] = append(f.hidden[line], part)
		}
		line++
	}
}

// Veil marks a line, or a part of it, as one that was not understood: a quote of it shows the words of the formats, addresses and
// small numbers.
func (f *File) Veil(p Pos) { f.veiled[p.Place()] = true }

// Quote returns the line or the part of it at a position, fit to be shown: trimmed, secrets, comments and what was not understood masked,
// control and escape characters made harmless, cut at MaxQuote runes.
func (f *File) Quote(p Pos) string {
	text, cut := f.text(p)
	secrets := slices.Clone(f.hidden[p.Line])
	slices.SortFunc(secrets, func(a, b string) int { // the longest first: one secret may begin another
		return cmp.Or(cmp.Compare(len(b), len(a)), strings.Compare(a, b))
	})
	for _, s := range secrets {
		text = strings.ReplaceAll(text, s, Mask)
	}
	if cut {
		text = withoutPart(text, secrets)
	}
	text = f.withoutComment(f.redactAnnounced(text))
	if len(text) > mostVeiled {
		text = text[:mostVeiled]
		text = text[:strings.LastIndexAny(text, " ,;")+1] + "…" // never a part of a word, which a whole one may hide
	}
	if f.veiled[p.Place()] {
		text = f.veil(text)
	} else if i := strings.Index(text, Mask); i >= 0 { // nobody knows what stands behind a secret
		text = text[:i+len(Mask)] + f.veil(text[i+len(Mask):])
	}
	return Shorten(Clean(redactRuns(text)), MaxQuote)
}

// mostVeiled is how much of a text is looked at word by word: more than is shown of it.
const mostVeiled = 8 * MaxQuote

// withoutPart takes from the end of a text that was cut what may be the beginning of a secret.
func withoutPart(text string, secrets []string) string {
	for _, s := range secrets {
		for n := min(len(s), len(text)); n > 0; n-- {
			if strings.HasSuffix(text, s[:n]) {
				text = text[:len(text)-n]
				break
			}
		}
	}
	return text
}

// Veiled returns a message about a line in which whatever stands in quotation marks, and may be a value that was not understood, is
// masked.
func (f *File) Veiled(p Pos, message string) string {
	if f.manner == nil || f.manner.Open {
		return message
	}
	text, _ := f.text(p)
	return quotation().ReplaceAllStringFunc(message, func(q string) string {
		inner := q[1 : len(q)-1]
		if isKey(text, inner) {
			return q
		}
		return `"` + f.veil(inner) + `"`
	})
}

// remark begins an expression for a text, in quotation marks or as a word.
const remark = `("(?:[^"\\]|\\.)*"?|'[^']*'?`

var (
	quotation = lazy.Regexp(`"(?:[^"\\]|\\.)*"`)
	key       = lazy.Regexp(`^[A-Za-z][A-Za-z_-]{1,30}$`)
	remarks   = lazy.Regexp(`((?:^|[\s;{])--(?:comment|(?:nf|u)?log-prefix)[ \t]+|"(?:comment|prefix)":\s*)` + remark + `|[^\s;{}]+)` +
		`|((?:^|[\s;{])(?:comment|log[ \t]+prefix)[ \t]+)` + remark + `|[^-\s;{}][^\s;{}]*)`)
	piece    = lazy.Regexp(`[^\s"'{}()\[\],;=<>!|&]+`)
	joints   = lazy.Regexp(`[-+!_:/.@%$*]+`)
	plain    = lazy.Regexp(`^(?:\d{1,5}[smhdkKMG%]?|0x[0-9a-fA-F]{1,8})$`)
	runs     = lazy.Regexp(`[A-Za-z0-9+/=]{40,}|[0-9a-fA-F]{32,}`)
	repeated = lazy.Regexp(regexp.QuoteMeta(MaskUnread) + `(?:[ \t]+` + regexp.QuoteMeta(MaskUnread) + `)+`)
)

// isKey reports whether a word is the key that a line begins with: a name, and behind it what divides it from its value.
func isKey(line, word string) bool {
	rest, ok := strings.CutPrefix(line, word)
	rest = strings.TrimLeft(rest, " \t")
	return ok && key().MatchString(word) && rest != "" && strings.IndexByte("=:{", rest[0]) >= 0
}

// withoutComment masks what a line says to people only.
func (f *File) withoutComment(text string) string {
	if f.manner == nil || f.manner.Open {
		return text
	}
	if strings.Contains(text, "comment") || strings.Contains(text, "prefix") {
		text = remarks().ReplaceAllString(text, "${1}${3}"+MaskComment)
	}
	text = withoutHelper(text)
	if !slices.ContainsFunc(f.manner.Comments, func(mark string) bool { return strings.Contains(text, mark) }) {
		return text
	}
	quote := byte(0)
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case i == 0 || text[i-1] == ' ' || text[i-1] == '\t' || text[i-1] == ';':
			for _, mark := range f.manner.Comments {
				if strings.HasPrefix(text[i:], mark) && strings.TrimSpace(text[i+len(mark):]) != "" {
					return text[:i+len(mark)] + " " + MaskComment
				}
			}
		}
	}
	return text
}

// veil masks the words of a text that are not those of the formats.
func (f *File) veil(text string) string {
	if f.manner == nil || f.manner.Open {
		return text
	}
	at := 0
	out := piece().ReplaceAllStringFunc(text, func(w string) string {
		i := at + strings.Index(text[at:], w)
		at = i + len(w)
		if strings.HasPrefix(w, "secret") && strings.Contains(Mask, w) || strings.Contains(MaskComment, w) || f.manner.harmless(w) ||
			isKey(strings.TrimSpace(text[i:]), w) {
			return w
		}
		return MaskUnread
	})
	return repeated().ReplaceAllString(out, MaskUnread)
}

// harmless reports whether a word tells nothing: it is one of the formats', an address, or a small number.
func (m *Manner) harmless(w string) bool {
	if plain().MatchString(w) || m.Words[strings.ToLower(w)] ||
		!strings.ContainsFunc(w, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }) {
		return true
	}
	if _, err := netip.ParseAddr(w); err == nil {
		return true
	}
	if _, err := netip.ParsePrefix(w); err == nil {
		return true
	}
	for _, part := range joints().Split(w, -1) {
		if part != "" && !plain().MatchString(part) && !m.Words[strings.ToLower(part)] {
			return false
		}
	}
	return true
}

// hasRun reports whether a text has as many characters in a row, of those that keys are written with, as the shortest run has.
func hasRun(text string) bool {
	n := 0
	for i := range len(text) {
		switch c := text[i]; {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '+', c == '/', c == '=':
			if n++; n == 32 {
				return true
			}
		default:
			n = 0
		}
	}
	return false
}

// redactRuns masks long runs of hexadecimal digits and of base64 that are no path and no word.
func redactRuns(text string) string {
	if !hasRun(text) {
		return text
	}
	return runs().ReplaceAllStringFunc(text, func(r string) string {
		digits := strings.ContainsAny(r, "0123456789")
		if !digits || strings.HasPrefix(r, "/") || strings.Count(r, "/") > 2 && len(r)/strings.Count(r, "/") < 16 {
			return r
		}
		return Mask
	})
}
