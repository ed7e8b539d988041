package strictyaml

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type document struct {
	Title   string            `yaml:"title"`
	Count   int               `yaml:"count"`
	Tunnels []tunnel          `yaml:"tunnels"`
	Formats map[string]string `yaml:"formats"`
}

type tunnel struct {
	Between []string `yaml:"between"`
	Open    bool     `yaml:"open"`
}

func TestMistakesHaveTheirLineAndQuoteNothing(t *testing.T) {
	for text, want := range map[string]string{
		"title: a\ntunnels: !!binary hunter2\n":              "f:2: tags (!…) are not read",
		"formats: {a: !!int hunter2}\n":                      "f:1: tags (!…) are not read",
		"count: !!float hunter2\n":                           "f:1: tags (!…) are not read",
		"title: !!timestamp hunter2\n":                       "f:1: tags (!…) are not read",
		"title: !hunter2\n":                                  "f:1: tags (!…) are not read",
		"title: a\nformats: &hunter2\n  a: b\n":              "f:2: anchors (&…) are not read",
		"tunnels:\n  - between: hunter2\n":                   "f:2: a list was expected",
		"tunnels: hunter2\n":                                 "f:1: a list was expected",
		"count: hunter2\n":                                   "f:1: a number was expected",
		"tunnels:\n  - open: hunter2\n":                      "f:2: true or false was expected",
		"title: a\nhunter2-and-much-more: b\n":               "f:2: unknown key; known are: count, formats, title, tunnels",
		"title: a\ntitel: b\n":                               `f:2: unknown key "titel"; did you mean "title"?`,
		"title: a\ntitle: hunter2\n":                         "f:2: this key stands twice",
		"title: \"hunter2\n":                                 "f:1: this is not valid YAML",
		"- hunter2\n":                                        "f:1: a mapping was expected",
		"hunter2\n":                                          "f:1: a mapping was expected",
		"title: a\n---\ntitle: hunter2\n":                    "f: one YAML document was expected",
		strings.Repeat("[", 70):                              "f:1: it nests more than 64 deep",
		"title: a\nformats:\n  <<: {hunter2: hunter2}\n":     "f:3: aliases (*…) and merge keys (<<) are not read",
		"title: \"" + strings.Repeat("a", MaxBytes) + "\"\n": "f: it is larger than 1 MiB",
	} {
		var d document
		_, err := Decode("f", []byte(text), &d)
		if assert.Error(t, err, text[:min(len(text), 80)]) {
			assert.Equal(t, want, err.Error(), text[:min(len(text), 80)])
		}
	}
}

func TestDecodeReadsWhatIsThere(t *testing.T) {
	var d document
	tree, err := Decode("f", []byte("title: a\ntunnels:\n  - {between: [x, y], open: true}\n"), &d)
	require.NoError(t, err)
	assert.Equal(t, document{Title: "a", Tunnels: []tunnel{{Between: []string{"x", "y"}, Open: true}}}, d)
	assert.Equal(t, 3, tree.Line("$.tunnels[0]"))
}

// FuzzDecode asks for an error or a document, whatever the text, and that no error quotes the text's longest word.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{"title: a\n", "tunnels: !!binary abc\n", "formats: {a: !!int x}\n", "a: &b [*b]\n", "? a\n: b\n",
		"<<: {a: b}\n", "title: |\n  a\n", "- - - -\n", "%YAML 1.2\n---\n..."} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var d document
		_, _ = Decode("f", text, &d)
	})
}
