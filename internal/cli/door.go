package cli

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"unicode"
	"unicode/utf8"
)

// door is what everything printed passes: no byte leaves that could move a cursor, turn the direction of writing or end a line
// that Toril did not end. What is stopped is shown as an escape, in the form that JSON has for it too. Readers and reports
// clean what they take over; this is the last line.
type door struct {
	to     io.Writer
	color  bool   // Toril's own sequences for colours pass
	before []byte // the beginning of a character, or of a sequence, that the next write goes on
}

// colors are the sequences that reports write themselves: bold, faint, foreground colours, and back.
var colors = regexp.MustCompile(`^\x1b\[(?:0|1|2|3\d|9\d)(?:;(?:1|2|3\d|9\d))*m`)

// Write writes what is harmless and escapes the rest.
func (d *door) Write(p []byte) (int, error) {
	if len(d.before) == 0 && !slices.ContainsFunc(p, func(c byte) bool { return c != '\n' && (c < ' ' || c > '~') }) {
		return d.to.Write(p) // as nearly always
	}
	text := append(d.before, p...)
	d.before = nil
	out := make([]byte, 0, len(text))
	for len(text) > 0 {
		if text[0] == 0x1b && d.color {
			if m := colors.Find(text); m != nil {
				out, text = append(out, m...), text[len(m):]
				continue
			}
		}
		r, size := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && size == 1:
			if len(text) < utf8.UTFMax && !utf8.FullRune(text) {
				d.before = append([]byte{}, text...)
				text = nil
				continue
			}
			out = fmt.Appendf(out, `\x%02x`, text[0])
		case r == '\n' || harmless(r):
			out = append(out, text[:size]...)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		text = text[size:]
	}
	if _, err := d.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Close writes what was kept back.
func (d *door) Close() error {
	var out []byte
	for _, c := range d.before {
		out = fmt.Appendf(out, `\x%02x`, c)
	}
	d.before = nil
	_, err := d.to.Write(out)
	return err
}

// harmless reports whether a character stays within its place: no control, no format character, no separator of lines.
func harmless(r rune) bool {
	return !unicode.Is(unicode.Cc, r) && !unicode.Is(unicode.Cf, r) && r != '\u2028' && r != '\u2029'
}
