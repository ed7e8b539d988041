package lines_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/syntax"
	"toril/syntax/lines"
	"toril/syntax/syntaxtest"
)

var (
	plain  = lines.Manner{Comments: "!#"}
	joined = lines.Manner{Comments: "#", Joined: true}
	quoted = lines.Manner{Comments: "#", Quoted: true}
)

func told(text string, m lines.Manner) string {
	var out []string
	for l := range lines.Parse([]byte(text), m) {
		one := fmt.Sprint(l.Line, " ")
		if l.Indented() {
			one += "> "
		}
		one += strings.Join(l.Fields(), "|")
		if l.Comment {
			one += "#"
		}
		if l.Return {
			one += "$"
		}
		out = append(out, one)
	}
	return strings.Join(out, "; ")
}

func TestParse(t *testing.T) {
	for _, c := range []struct {
		text string
		m    lines.Manner
		want string
	}{
		{"interface a\n ip address 10.0.0.1/24\n!\n# x\n", plain, "1 interface|a; 2 > ip|address|10.0.0.1/24; 3 #; 4 #"},
		{"a \\\n b\nc", plain, "1 a|\\; 2 > b; 3 c"},
		{"a \\\n b\\\nc\nd", joined, "1 a|bc; 4 d"},
		{"# a \\\nb", joined, "1 #; 2 b"},
		{"a\\", joined, "1 a\\"},
		{"a\\\n", joined, "1 a\\"},
		{"a\\\r\nb\r\n", joined, "1 ab$"},
		{"\n\n  \n", plain, "1 ; 2 ; 3 > "},
		{"-A x -m comment --comment \"a \\\"b\\\" c\"d e\n", quoted, `1 -A|x|-m|comment|--comment|a "b" c|d|e`},
		{"a \"\" b\"c d\"", quoted, "1 a||bc d"},
		{"a \"b", quoted, "1 a|b\n"},
		{"a\u00a0b\vc", plain, "1 a|b|c"},
		{"", plain, ""},
	} {
		assert.Equal(t, c.want, told(c.text, c.m), "%q", c.text)
	}
	for range lines.Parse([]byte("a\nb\n"), plain) {
		break // nothing is read behind
	}
}

// back checks the promise of the syntax: what stands between lines is blanks, comments, and line ends; and words are where they say.
func back(t *testing.T, text string, m lines.Manner) {
	var places []syntax.Place
	for l := range lines.Parse([]byte(text), m) {
		if len(l.Words) == 0 {
			continue
		}
		places = append(places, l.Place)
		end := l.Start
		for _, w := range l.Words {
			require.LessOrEqual(t, end, w.Start)
			require.LessOrEqual(t, w.Start, w.End)
			if !m.Quoted && !m.Joined {
				assert.Equal(t, w.Text, text[w.Start:w.End])
			}
			end = w.End
		}
		assert.Equal(t, l.End, end)
	}
	for _, b := range syntaxtest.PrintedBack(t, text, places) {
		for line := range strings.Lines(b) {
			line = strings.TrimSpace(line)
			assert.True(
				t,
				line == "" || strings.IndexByte(m.Comments, line[0]) >= 0 || m.Joined && strings.Trim(line, "\\\r \t") == "",
				"%q",
				b,
			)
		}
	}
}

func TestSamplesArePrintedBack(t *testing.T) {
	for folder, m := range map[string]lines.Manner{"frr": plain, "ifupdown": joined, "iproute": plain, "iptables": quoted} {
		syntaxtest.Samples(t, folder+"/*", func(text string) { back(t, text, m) })
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a \\\r\n b\n# c \\\n\"d \\\" e\"f\n", 0)
	f.Add("\\\n\\\nx\\", 1)
	f.Add(":\"\n\u2028y\xff", 2)
	f.Fuzz(func(t *testing.T, text string, which int) {
		back(t, text, []lines.Manner{plain, joined, quoted}[uint(which)%3])
	})
}

// TestFieldsOfALine are its words, however they are asked for; and a file may be read from any of its lines on.
func TestFieldsOfALine(t *testing.T) {
	r := rand.New(rand.NewPCG(20261128, 6))
	for range 20_000 {
		var b strings.Builder
		for range r.IntN(30) {
			b.WriteByte("ab-\" \t\\\r"[r.IntN(8)])
		}
		text := "first\n" + b.String() + "\nlast"
		for _, m := range []lines.Manner{{}, {Quoted: true}} {
			all := slices.Collect(lines.Parse([]byte(text), m))
			require.Len(t, all, 3)
			assert.Equal(t, all[1].Fields(), m.AppendFields([]string{}, all[1].Text), "%q", text)
			assert.Equal(t, all[1:], slices.Collect(lines.From([]byte(text), len("first\n"), 2, m)), "%q", text)
		}
	}
}
