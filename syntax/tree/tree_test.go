package tree_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/syntax/syntaxtest"
	"toril/syntax/tree"
)

func told(n *tree.Node) string {
	name := ""
	if n.Key != "" {
		name = n.Key + "="
	}
	switch n.Kind {
	case tree.Text:
		return fmt.Sprintf("%d %s'%s'", n.At().Line, name, n.Text)
	case tree.Word:
		return fmt.Sprintf("%d %s%s", n.At().Line, name, n.Text)
	}
	var out []string
	for _, m := range n.Nodes {
		out = append(out, told(m))
	}
	marks := map[tree.Kind]string{tree.Map: "{}", tree.List: "[]"}[n.Kind]
	return name + marks[:1] + strings.Join(out, "; ") + marks[1:]
}

var parsers = map[string]func([]byte) (*tree.Node, error){"json": tree.JSON, "yaml": tree.YAML, "xml": tree.XML}

func TestTrees(t *testing.T) {
	for _, c := range [][3]string{
		{"json", "{\"a\": [1, true,\n null, \"x\\\"y\"], \"b\": {}}", `{a=[1 1; 1 true; 2 null; 2 'x"y']; b={}}`},
		{"json", " \"x\" ", "1 'x'"},
		{"json", "{\"a\": 1,\n \"a\": 2}", "{1 a=1; 2 a=2}"},
		{"yaml", "a:\n  - 1\n  - \"x: y\" # z\nb: {c: d, e: true}\n", "{a=[2 1; 3 'x: y']; b={4 c='d'; 4 e=true}}"},
		{"yaml", "a: |\n  x\n  y\nb:\n", "{1 a='x\ny\n'; 4 b=null}"},
		{"xml", "<?xml version=\"1.0\"?>\n<a>\n <b c=\"d\">x</b>\n <e/> <e>y &amp; z</e>\n</a>\n", "a={b={0 c='d'}; 4 e=''; 4 e='y & z'}"},
	} {
		n, err := parsers[c[0]]([]byte(c[1]))
		require.NoError(t, err, c[1])
		assert.Equal(t, c[2], told(n), c[1])
	}
	n, err := tree.JSON([]byte(`{"a": 1, "a": 2}`))
	require.NoError(t, err)
	assert.Equal(t, "2", n.Get("a").Text, "the last counts")
	assert.Nil(t, n.Get("b"))
	assert.Nil(t, n.Get("a").Get("b"))
}

func TestWhatIsBroken(t *testing.T) {
	deep := strings.Repeat("[", 100)
	for _, c := range [][2]string{
		{"json", "{\"a\": 1,\n ]"}, {"json", ""}, {"json", "1 2"}, {"json", deep}, {"yaml", "a: [\n"}, {"yaml", "a: &b 1\nc: *b\n"},
		{"xml", "<a>\n<b>\n</a>"}, {"xml", ""}, {"xml", "<a/><b/>"}, {"xml", "<a/>x"}, {"xml", strings.Repeat("<a>", 100)},
		{"xml", "<a>&nothing;</a>"},
	} {
		_, err := parsers[c[0]]([]byte(c[1]))
		var e *tree.Error
		require.ErrorAs(t, err, &e, "%s %q", c[0], c[1])
		assert.Positive(t, e.Line)
		assert.NotEmpty(t, e.Error())
	}
}

func TestElements(t *testing.T) {
	text := "{\"list\": [{\"a\": 1},\n 2,\n\"x\"] }"
	dec := json.NewDecoder(strings.NewReader(text))
	for range 3 {
		_, err := dec.Token()
		require.NoError(t, err)
	}
	var got []string
	for e, err := range tree.Elements([]byte(text), dec) {
		require.NoError(t, err)
		assert.Equal(t, string(e.Raw), text[e.Start:e.End])
		got = append(got, fmt.Sprintf("%d %s", e.Line, e.Raw))
	}
	assert.Equal(t, []string{`1 {"a": 1}`, "2 2", `3 "x"`}, got)
	broken := "[1,\n}"
	dec = json.NewDecoder(strings.NewReader(broken))
	_, err := dec.Token()
	require.NoError(t, err)
	var last error
	for _, err := range tree.Elements([]byte(broken), dec) {
		last = err
	}
	var e *tree.Error
	require.ErrorAs(t, last, &e)
	assert.Equal(t, 1, e.Line, "how far it has come")
}

// back checks the promise of the syntaxes: names and values printed from their bytes, with what stands between them, are the text; and
// what is a word is written as it is meant.
func back(t *testing.T, kind, text string) {
	n, err := parsers[kind]([]byte(text))
	if err != nil {
		return
	}
	syntaxtest.PrintedBack(t, text, n.Places())
	var visit func(n *tree.Node)
	visit = func(n *tree.Node) {
		if n.Kind == tree.Word && n.Value.End > 0 && kind == "json" {
			assert.Equal(t, n.Text, text[n.Value.Start:n.Value.End])
		}
		if kind == "xml" && n.Name.End > 0 {
			assert.Equal(t, "<", text[n.Name.Start:n.Name.Start+1])
		}
		for _, m := range n.Nodes {
			visit(m)
		}
	}
	visit(n)
}

func TestSamplesArePrintedBack(t *testing.T) {
	syntaxtest.Samples(t, "netplan/*", func(text string) {
		n, err := tree.YAML([]byte(text))
		require.NoError(t, err, text)
		back(t, "yaml", text)
		assert.Greater(t, len(n.Places()), strings.Count(text, ":")/2, "most know their bytes")
	})
}

func FuzzJSON(f *testing.F) {
	f.Add("{\"a\": [1, -2.5e3, true,\n null, \"x\\u00e9\"], \"b\": {}}")
	f.Fuzz(func(t *testing.T, text string) { back(t, "json", text) })
}

func FuzzYAML(f *testing.F) {
	f.Add("a:\n  - 1\n  - \"x: y\" # z\nb: {c: 'd', é: true}\nf: |\n  g\n")
	f.Fuzz(func(t *testing.T, text string) { back(t, "yaml", text) })
}

func FuzzXML(f *testing.F) {
	f.Add("<?xml version=\"1.0\"?>\n<a b='c'><!-- x --> d &lt; <e/>f<![CDATA[g]]></a>")
	f.Fuzz(func(t *testing.T, text string) { back(t, "xml", text) })
}
