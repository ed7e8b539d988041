package statements_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/syntax"
	"toril/syntax/statements"
	"toril/syntax/syntaxtest"
)

var manners = map[string]statements.Manner{
	"lines": {
		Kind:     statements.Lines,
		Comments: []string{"!", "//"},
		Quotes:   `"`,
		Escape:   true,
		Join:     true,
		Banners:  []string{"greeting"},
	},
	"held":   {Kind: statements.Lines, Comments: []string{"#"}, Enter: []string{"tunnel", "child"}, Leave: []string{"done"}},
	"braces": {Kind: statements.Braces, Comments: []string{"#"}, Quotes: `"'`, End: ";", Marks: "=,"},
	"open":   {Kind: statements.Braces, Comments: []string{"#"}, Quotes: `"`},
	"paths":  {Kind: statements.Paths, Quotes: `'`},
	"ini":    {Kind: statements.INI, Comments: []string{";", "#"}, Quotes: `"`},
	"json":   {Kind: statements.JSON},
	"yaml":   {Kind: statements.YAML},
	"xml":    {Kind: statements.XML},
}

func told(list []*statements.Statement) string {
	var out []string
	for _, st := range list {
		var words []string
		for _, w := range st.Words {
			if w.Quoted {
				w.Text = "'" + w.Text + "'"
			}
			words = append(words, w.Text)
		}
		one := fmt.Sprintf("%d %s", st.Line, strings.Join(words, "|"))
		if len(st.Nested) > 0 {
			one += " (" + told(st.Nested) + ")"
		}
		out = append(out, one)
	}
	return strings.Join(out, "; ")
}

func TestParse(t *testing.T) {
	for _, c := range []struct{ manner, text, want, bad string }{
		{"lines", "a b\n  c \"d e\\\"\"\n    f ! x\n  g\nh\n", `1 a|b (2 c|'d e"' (3 f); 4 g); 5 h`, ""},
		{"lines", "! x\n\na \\\n b // c\nd//e\n", "3 a|b; 5 d//e", ""},
		{"lines", "a\n\tb\r\n  c\r\n", "1 a (2 b; 3 c)", ""},
		{"lines", "greeting ^\nhello\n there ^\na", "1 greeting|^|'hello\n there ^'; 4 a", ""},
		{"lines", "greeting ^\nhello", "1 greeting|^|'hello'", "1 its text has no end"},
		{"lines", "a \"b\nc", "1 a|'b'; 2 c", "1 a quotation mark is not closed"},
		{"held", "tunnel a\npeer b\nchild c\nnet d\ndone\nkey e\ndone\nf\n",
			"1 tunnel|a (2 peer|b; 3 child|c (4 net|d; 5 done); 6 key|e; 7 done); 8 f", ""},
		{"held", "tunnel a\n peer b\n  why c\ndone\ndone\nf\n", "1 tunnel|a (2 peer|b (3 why|c); 4 done); 5 done; 6 f", ""},
		{"braces", "a b {\n c = d, 'e f'; # x\n g {h;}\n}\ni;", "1 a|b (2 c|=|d|,|'e f'; 3 g (3 h)); 5 i", ""},
		{"braces", "a\n b; c", "1 a|b; 2 c", ""},
		{"braces", "} a { { b", "1 a (1  (1 b))",
			"1 a closing brace has no opening one; " +
				"1 a brace opens, and nothing says what; 1 a brace that opens here is not closed"},
		{"open", "a {\n b c\n d\n}\ne", "1 a (2 b|c; 3 d); 5 e", ""},
		{"paths", "set a 'b c' d\nset a e\n", "1 set|a|'b c'|d; 2 set|a|e", ""},
		{"ini", "[a b]\nc = d e ; x\nf=g\nh\n[i]\n", "1 a|b (2 c|d|e; 3 f|g; 4 h); 5 i", ""},
		{"ini", "c=d\n", "1 c|d", "1 it stands above every heading"},
		{"json", "{\"a\": {\"b\": [1, {\"c\": \"d\"}]},\n \"e\": null}", "1 a (1 b|1; 1 b (1 c|'d')); 2 e|null", ""},
		{"json", "{\"a\": 1,\n]", "", "2 it is not JSON: invalid character ']' looking for beginning of object key string"},
		{"yaml", "a:\n  - b: c\n  - d\n", "2 a (2 b|'c'); 3 a|'d'", ""},
		{"xml", "<a>\n <b c='d'>e</b>\n <b/>\n</a>", "1 a (2 b|e (0 c|'d'); 3 b)", ""},
	} {
		got, bad := statements.Parse([]byte(c.text), manners[c.manner])
		var said []string
		for _, b := range bad {
			said = append(said, fmt.Sprintf("%d %s", b.Line, b.Why))
		}
		assert.Equal(t, c.want, told(got), "%s %q", c.manner, c.text)
		assert.Equal(t, c.bad, strings.Join(said, "; "), "%s %q", c.manner, c.text)
	}
	deep, bad := statements.Parse([]byte(strings.Repeat("a { ", 100)+strings.Repeat("} ", 100)+"b"), manners["open"])
	assert.Len(t, deep, 2)
	assert.Len(t, bad, 1)
	var ladder strings.Builder
	for i := range 100 {
		ladder.WriteString(strings.Repeat(" ", i) + "a\n")
	}
	_, bad = statements.Parse([]byte(ladder.String()), manners["lines"])
	assert.NotEmpty(t, bad)
	assert.Len(t, statements.Kinds(), 7)
}

// back checks the promise of the syntax: words printed from their bytes, with what stands between them, are the file; between are blanks,
// comments, braces, and the marks of headings and of joined lines.
func back(t *testing.T, name, text string) {
	list, _ := statements.Parse([]byte(text), manners[name])
	var places []syntax.Place
	var visit func(list []*statements.Statement)
	visit = func(list []*statements.Statement) {
		for _, st := range list {
			for _, w := range st.Words {
				places = append(places, w.Place)
			}
			if len(st.Words) > 0 {
				assert.Equal(t, st.Words[0].Start, st.Start)
				assert.Equal(t, st.Words[len(st.Words)-1].End, st.End)
			}
			visit(st.Nested)
		}
	}
	visit(list)
	for _, b := range syntaxtest.PrintedBack(t, text, places) {
		for line := range strings.Lines(b) {
			for _, c := range manners[name].Comments {
				line, _, _ = strings.Cut(line, c)
			}
			assert.Empty(t, strings.Trim(line, " \t\v\f\r\n\\{};[]="), "%s %q", name, b)
		}
	}
}

func FuzzParse(f *testing.F) {
	for i, text := range []string{"a b\n  c \"d\\\" e\" ! f\n\\\ng", "tunnel a\nb\ndone", "a { b = 'c' ; } # d", "a {\n b\n}", "set 'a b'",
		"[a b]\nc = d=e\n", "greeting x\nfoo\nx\n"} {
		f.Add(text, i)
	}
	names := []string{"lines", "held", "braces", "open", "paths", "ini"}
	f.Fuzz(func(t *testing.T, text string, which int) { back(t, names[uint(which)%uint(len(names))], text) })
}
