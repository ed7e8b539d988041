package source

import (
	"strings"

	"toril/internal/lazy"
)

var (
	name   = lazy.Regexp(`^(?:[a-z]+|[A-Z]+|[A-Z][a-z]+)\d{0,4}$|^\d{1,8}[a-z]?$`)
	helper = lazy.Regexp(`((?:^|[\s;{])(?:--helper[ \t]+|ct[ \t]+helper[ \t]+(?:set[ \t]+)?))("[^"\n]*"?|[^\s;{}]+)`)
)

// IsName reports whether a word looks like a name that people choose, part by part: letters of one case, or one capital before small ones,
// and up to four digits behind them. What does not may be a secret.
func IsName(word string) bool {
	for _, part := range joints().Split(word, -1) {
		if part != "" && !name().MatchString(part) {
			return false
		}
	}
	return true
}

// Named returns a text that stands in a line, in which whatever does not look like a name, a word of the formats or an address is masked;
// it is masked in quotes of the line too.
func (f *File) Named(line int, text string) string {
	if f.manner == nil || f.manner.Open {
		return text
	}
	return piece().ReplaceAllStringFunc(text, func(w string) string {
		if f.manner.harmless(w) {
			return w
		}
		parts := joints().Split(w, -1)
		for _, part := range parts {
			if part != "" && !name().MatchString(part) && !f.manner.harmless(part) {
				f.Hide(line, part)
				w = strings.Replace(w, part, MaskUnread, 1)
			}
		}
		return w
	})
}

// withoutHelper masks what the name of a helper of connection tracking is, where it does not look like one.
func withoutHelper(text string) string {
	if !strings.Contains(text, "helper") {
		return text
	}
	return helper().ReplaceAllStringFunc(text, func(s string) string {
		at := helper().FindStringSubmatchIndex(s)
		if IsName(strings.Trim(s[at[4]:at[5]], `"`)) {
			return s
		}
		return s[:at[4]] + MaskUnread
	})
}
