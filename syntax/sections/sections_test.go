package sections_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/syntax"
	"toril/syntax/sections"
	"toril/syntax/syntaxtest"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"conn a\n\tleft=192.0.2.1 # x\n": "1 conn a; 2 > left=192.0.2.1 #",
		"# x\n\n a = \"b # c\"#d\n":      "1  #; 2 ; 3 > a = \"b # c\"#d",
		"a\r\n\r\n":                      "1 a r; 2  r",
		"a\rb\nc":                        "1 a\rb w; 2 c",
		"  x":                            "1 > x",
		"":                               "",
	} {
		var out []string
		for l := range sections.Parse([]byte(text)) {
			one := fmt.Sprint(l.Line, " ")
			if l.Indented {
				one += "> "
			}
			one += l.Text
			for mark, is := range map[string]bool{" #": l.Comment, " r": l.Return, " w": l.Within} {
				if is {
					one += mark
				}
			}
			out = append(out, one)
		}
		assert.Equal(t, want, strings.Join(out, "; "), "%q", text)
	}
	for text, want := range map[string][5]string{
		"a = b":      {"a", "b", "yes", "a", "= b"},
		"a=":         {"a", "", "yes", "a=", ""},
		"a b = c":    {"a b", "c", "", "a", "b = c"},
		"conn\tx  y": {"conn\tx  y", "", "", "conn", "x  y"},
	} {
		for l := range sections.Parse([]byte(text)) {
			key, value, ok := l.Setting()
			word, rest := l.Head()
			assert.Equal(t, want, [5]string{key, value, map[bool]string{true: "yes"}[ok], word, rest})
		}
	}
}

func TestEntries(t *testing.T) {
	for text, want := range map[string]string{
		"a b : PSK \"x y\" # z\n":         "1-1 a|b|:|PSK|\"x y\"",
		"a :\n  PSK\n \n  'k'\nb : RSA c": "1-4 a|:|PSK|'k'; 5-5 b|:|RSA|c",
		"a\n : PSK k\n":                   "1-1 a; 2-2 :|PSK|k",
		"a\n# x\n  b\n\n c":               "1-1 a; 3-3 b; 5-5 c",
		"include x\n  y : PSK z\n":        "1-1 include|x; 2-2 y|:|PSK|z",
		"":                                "",
	} {
		var out []string
		for e := range sections.Entries([]byte(text)) {
			out = append(out, fmt.Sprintf("%d-%d %s", e.Line, e.Last, strings.Join(e.Words, "|")))
			assert.Equal(t, strings.HasPrefix(e.Text, "include"), e.Includes())
		}
		assert.Equal(t, want, strings.Join(out, "; "), "%q", text)
	}
	for range sections.Entries([]byte("a : PSK b\nc : PSK d\n")) {
		break // nothing is read behind
	}
}

// back checks the promise of the syntax: what stands between is blanks and comments.
func back(t *testing.T, text string) {
	var places, entries []syntax.Place
	for l := range sections.Parse([]byte(text)) {
		places = append(places, l.Place)
		assert.Equal(t, l.Text, text[l.Start:l.End])
	}
	for _, b := range syntaxtest.PrintedBack(t, text, places) {
		for line := range strings.Lines(b) {
			line, _, _ = strings.Cut(line, "#")
			assert.Empty(t, strings.TrimSpace(line), "%q", b)
		}
	}
	for e := range sections.Entries([]byte(text)) {
		entries = append(entries, e.Place)
	}
	for _, b := range syntaxtest.PrintedBack(t, text, entries) {
		for line := range strings.Lines(b) {
			assert.True(t, strings.TrimSpace(line) == "" || strings.TrimSpace(line)[0] == '#', "%q", b)
		}
	}
}

func TestSamplesArePrintedBack(t *testing.T) {
	syntaxtest.Samples(t, "ipsec.conf-*/*", func(text string) { back(t, text) })
}

func FuzzParse(f *testing.F) {
	f.Add("conn a\n\tleft = 1 # x\r\n\n#\nb : PSK \"c\n d\"\n")
	f.Add("\r\n\v x \r y\n \n: a")
	f.Fuzz(func(t *testing.T, text string) { back(t, text) })
}
