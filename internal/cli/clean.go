package cli

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"toril/internal/lazy"
)

// cleanWriter is what everything printed passes: no byte leaves that could move a cursor, turn the direction of writing or end a line
// that Toril did not end. What is stopped is shown as an escape, in the form that JSON has for it too. Readers and reports
// clean what they take over; this is the last line.
type cleanWriter struct {
	to     io.Writer
	first  func() // called before anything is written; nil for nothing
	tabs   bool   // tabs pass, and line ends of two characters: what is written is a script for a shell, words for it, or a patch
	color  bool   // Toril's own sequences for colours pass
	before []byte // the beginning of a character, or of a sequence, that the next write goes on

	word    int  // how long the word is that is being written, in characters
	slashes int  // how many backslashes came last
	since   int  // how many characters came after the last backslash
	cutting bool // the word is longer than maxWord
}

// maxWord is how long one word of the output may be, in characters; of a longer one "…" stands for the rest. No name, path or address
// that a person reads is so long, and lists are words with commas between.
const maxWord = 1000

// plain reports whether a text is harmless as it is, and then counts its last word.
func (d *cleanWriter) plain(p []byte) bool {
	if !printable(p) || d.cutting || d.slashes > 0 {
		return false
	}
	begin := -d.word // of a word, before the text where it goes on
	for len(p)-begin > maxWord {
		last := bytes.LastIndexAny(p[max(0, begin):begin+maxWord+1], wordEnds)
		if last < 0 {
			return false
		}
		begin = max(0, begin) + last + 1
	}
	if last := bytes.LastIndexAny(p[max(0, begin):], wordEnds); last >= 0 {
		begin = max(0, begin) + last + 1
	}
	d.word, d.since = len(p)-begin, d.since+len(p)
	return true
}

// printable reports whether a text is of printable ASCII characters alone, without backslashes, and of line feeds.
func printable(p []byte) bool {
	const each, low = 0x0101010101010101, 0x7f7f7f7f7f7f7f7f
	bad := uint64(0)
	for rest := p; len(rest) >= 8; rest = rest[8:] { // the highest bit of each byte tells
		at := binary.LittleEndian.Uint64(rest)
		blank, del := at&low+(0x80-' ')*each, at&low+each // or what is above it
		feed := at ^ '\n'*each
		bad |= at | del | ^blank&(feed&low+low|feed)
	}
	for _, c := range p[len(p)&^7:] {
		if c < ' ' && c != '\n' || c > '~' {
			return false
		}
	}
	return bad&^low == 0 && bytes.IndexByte(p, '\\') < 0
}

// wordEnds are the characters that end a word; a quotation mark that is escaped does not.
const wordEnds = " \n,;/\""

// cuts reports whether a character is left out, and whether the word's mark takes its place. Escapes of JSON stay whole.
func (d *cleanWriter) cuts(r rune) (leave, mark bool) {
	over := strings.ContainsRune(wordEnds, r) && (r != '"' || d.slashes%2 == 0)
	if r == '\\' {
		d.slashes, d.since = d.slashes+1, 0
	} else {
		d.slashes, d.since = 0, d.since+1
	}
	if over {
		d.word, d.cutting = 0, false
		return false, false
	}
	d.word++
	if d.cutting {
		return true, false
	}
	d.cutting = d.word > maxWord && d.since > len(`\u0000`)
	return d.cutting, d.cutting
}

// colors are the sequences that reports write themselves: bold, faint, foreground colours, and back.
var colors = lazy.Regexp(`^\x1b\[(?:0|1|2|3\d|9\d)(?:;(?:1|2|3\d|9\d))*m`)

// Write writes what is harmless and escapes the rest.
func (d *cleanWriter) Write(p []byte) (int, error) {
	if d.first != nil {
		d.first()
		d.first = nil
	}
	if len(d.before) == 0 && d.plain(p) { // as nearly always
		return d.to.Write(p)
	}
	out := make([]byte, 0, len(p)+8)
	for line := range bytes.Lines(p) {
		if len(d.before) == 0 && d.plain(line) {
			out = append(out, line...)
		} else {
			out = d.escape(out, line)
		}
	}
	if _, err := d.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// escape appends a text whose harmful characters are escaped.
func (d *cleanWriter) escape(out, p []byte) []byte {
	text := append(d.before, p...)
	d.before = nil
	for len(text) > 0 {
		if text[0] == 0x1b && d.color {
			if m := colors().Find(text); m != nil {
				out, text = append(out, m...), text[len(m):]
				continue
			}
		}
		r, size := utf8.DecodeRune(text)
		leave, mark := d.cuts(r)
		switch {
		case mark:
			out = append(out, "…"...)
		case leave:
		case r == utf8.RuneError && size == 1:
			if len(text) < utf8.UTFMax && !utf8.FullRune(text) {
				d.before = append([]byte{}, text...)
				text = nil
				continue
			}
			out = fmt.Appendf(out, `\x%02x`, text[0])
		case r == '\n' || r == '\t' && d.tabs || r == '\r' && d.tabs && len(text) > 1 && text[1] == '\n' || harmless(r):
			out = append(out, text[:size]...)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		text = text[size:]
	}
	return out
}

// Close writes what was kept back.
func (d *cleanWriter) Close() error {
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
	return ' ' <= r && r <= '~' || !unicode.Is(unicode.Cc, r) && !unicode.Is(unicode.Cf, r) && r != '\u2028' && r != '\u2029'
}
