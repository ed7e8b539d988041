package words_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/source"
	"toril/syntax"
	"toril/syntax/syntaxtest"
	"toril/syntax/words"
)

func told(text string, converted bool) string {
	var out []string
	for s := range words.Parse([]byte(text), converted) {
		var one []string
		for _, w := range s.Words {
			t := w.Text
			if w.Quoted {
				t = "'" + t + "'"
			}
			one = append(one, t)
		}
		line := fmt.Sprintf("%d %s", s.Place().Line, strings.Join(one, "|"))
		if s.Open > 0 {
			line += fmt.Sprintf(" open %d", s.Open)
		}
		out = append(out, line)
	}
	return strings.Join(out, "; ")
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"ikev2 \"a\" esp from 10.1.0.0/16 to any # x\n": "1 ikev2|'a'|esp|from|10.1.0.0|/|16|to|any",
		"a \\\n b\\\nc\nd":             "1 a|bc; 4 d",
		"# x \\\n still\na":            "3 a",
		"x = { a, b }":                 "1 x|=|{|a|,|b|}",
		"psk \"a \\\" b\nc\" 'd'":      "1 psk|'a \" bc'|'d'",
		"psk \"a\nb":                   "1 psk|'ab' open 1",
		"a\rb":                         "1 a|\r|b",
		"\n\n  \n a\n":                 "4 a",
		"ikev2 esp\\\n\\\n\tfrom a\n#": "1 ikev2|esp|from|a",
	} {
		assert.Equal(t, want, told(text, false), "%q", text)
	}
	assert.Equal(t, "1 a|b; 3 'c d'", told("a \\\r\n b\r\n\"c\r\n d\"\r\n", true))
	at := syntax.Place{Line: 7, Range: source.Range{Start: 70, End: 75}}
	for _, w := range words.Split("a \"b c\" d", at) {
		assert.Equal(t, at, w.Place)
	}
	for s := range words.Parse([]byte("a\nb\n"), false) {
		assert.Equal(t, "a", s.Words[0].Text)
		break // nothing is read behind
	}
}

// back checks the promise of the syntax: what stands between words is blanks, comments, and line ends.
func back(t *testing.T, text string, converted bool) {
	var places []syntax.Place
	for s := range words.Parse([]byte(text), converted) {
		for _, w := range s.Words {
			places = append(places, w.Place)
			if w.Quoted {
				assert.Contains(t, text[w.Start:w.End], w.Raw)
			} else if !strings.Contains(text[w.Start:w.End], "\\") {
				assert.Equal(t, w.Text, text[w.Start:w.End])
			}
		}
	}
	for _, b := range syntaxtest.PrintedBack(t, text, places) {
		if converted {
			b = strings.ReplaceAll(b, "\r\n", "\n")
		}
		for line := range strings.Lines(strings.ReplaceAll(b, "\\\n", "")) {
			line, _, _ = strings.Cut(line, "#")
			assert.Empty(t, strings.Trim(line, " \t\n"), "%q", b)
		}
	}
}

func TestSamplesArePrintedBack(t *testing.T) {
	syntaxtest.Samples(t, "iked/*", func(text string) { back(t, text, false) })
}

func FuzzParse(f *testing.F) {
	f.Add("ikev2 \"a\" active esp \\\n from 10.1.0.0/16 to { any, x } # c \\\n d\npsk 'a\\' b'\n", false)
	f.Add("a\\\r\nb \"c\r\nd\\\r\n\"\r\n#\r\n", true)
	f.Fuzz(func(t *testing.T, text string, converted bool) { back(t, text, converted) })
}
