package braces_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/syntax"
	"toril/syntax/braces"
	"toril/syntax/syntaxtest"
)

// teller writes down what it is told.
type teller struct {
	told   []string
	places []syntax.Place
	values []syntax.Word
	broken bool
}

func (t *teller) say(format string, args ...any) {
	t.told = append(t.told, fmt.Sprintf(format, args...))
}

func (t *teller) statement(p syntax.Place) { t.places = append(t.places, p) }

func (t *teller) Open(name string, refs []braces.Reference, p syntax.Place) {
	t.say("%d open %s %v", p.Line, name, refs)
	t.statement(p)
}
func (t *teller) Close() { t.say("close") }
func (t *teller) Value(key string, value syntax.Word, p syntax.Place) {
	t.say("%d %s = %q", p.Line, key, value.Text)
	t.values = append(t.values, value)
	t.statement(p)
}
func (t *teller) Include(pattern string, p syntax.Place) {
	t.say("%d include %s", p.Line, pattern)
	t.statement(p)
}
func (t *teller) Broken(line int, why string) { t.broken = true; t.say("%d broken: %s", line, why) }
func (t *teller) Unread(line int, section, why string) {
	t.broken = true
	t.say("%d unread in %q: %s", line, section, why)
}
func (t *teller) TooDeep(line int) { t.broken = true; t.say("%d too deep", line) }

func tell(text string) *teller {
	t := &teller{}
	braces.Parse([]byte(text), t)
	return t
}

// TestValuesKnowTheirBytes holds the range of a value to be its text, wherever it has one.
func TestValuesKnowTheirBytes(t *testing.T) {
	for text, exact := range map[string]bool{"a = b c # d\n": true, "a =\"b # c\"\n": true, "a { b = c }": true, "a = \"b\nc\"\n": true,
		"a = \"b\" c\n": false, "a = \"b\\tc\"\n": false} {
		told := tell(text)
		require.Len(t, told.values, 1, text)
		v := told.values[0]
		assert.Equal(t, exact, v.End > 0, text)
		if exact {
			assert.Equal(t, v.Text, text[v.Start:v.End])
		}
	}
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"a = b\n":                      `1 a = "b"`,
		"a=b c # d\n":                  `1 a = "b c"`,
		"a {\n b = \"x # } y\" z\n}\n": "1 open a []\n2 b = \"x # } y z\"\nclose",
		"a : b, c.d { e = f }":         "1 open a [{b 1} {c.d 1}]\n1 e = \"f\"\nclose",
		"a\n{\n}\n":                    "1 open a []\nclose",
		"include x/*.conf\n a = b":     "1 include x/*.conf\n2 a = \"b\"",
		"include = b\n":                `1 include = "b"`,
		"a = \"b\\n\\t\\\"c\"\n":       `1 a = "b\n\t\"c"`,
		"a = \"b\nc\"\nd = e":          "1 a = \"b\\nc\"\n3 d = \"e\"",
		"a {\n b = c\n": "1 open a []\n2 b = \"c\"\n2 broken: section a, opened at line 1, is not closed: the file " +
			"ends here\n2 unread in \"\": whatever stood behind the end of the file\nclose",
		"}\na = b\n": "1 broken: a closing brace has no opening one\n2 a = \"b\"",
		"a {\n x y\n b = c\n}\n": "1 open a []\n2 broken: neither a value nor a section follows the name\n" +
			"2 unread in \"a\": neither a value nor a section follows the name\n3 b = \"c\"\nclose",
		"a.b = c\n":                 "1 broken: the name \"a.b\" is in quotation marks or has a dot\n1 a.b = \"c\"",
		"a = b\x00c = d\n":          "1 unread in \"\": whatever stands behind a zero byte\n1 a = \"b\"",
		strings.Repeat("a {\n", 65): "65 too deep",
		"a = \"b\n":                 "1 broken: a quotation mark opened here is not closed\n1 a = \"b\\n\"",
	} {
		got := strings.Join(tell(text).told, "\n")
		if strings.Contains(want, "too deep") {
			assert.Contains(t, got, want)
			continue
		}
		assert.Equal(t, want, got, text)
	}
}

// between is what may stand between statements: blanks, line ends, comments, and the closing braces of sections.
var between = regexp.MustCompile(`^(?:[ \t\r\n}]|#[^\n\r]*)*$`)

// back checks the promise; and where nothing is broken, nothing stands between statements that says anything.
func back(t *testing.T, text string) {
	told := tell(text)
	for _, b := range syntaxtest.PrintedBack(t, text, told.places) {
		if !told.broken {
			assert.Regexp(t, between, b)
		}
	}
}

func TestPrintedBack(t *testing.T) {
	files, err := filepath.Glob("../../lab/formats/samples/swanctl/*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		back(t, string(text))
		assert.False(t, tell(string(text)).broken, f)
	}
	for _, text := range []string{
		"", "\n", "#", "a=b", "a {}\n# x", "a { b = c } d = e", "a = \"x\n y\" # z\n}\n", "a\r\n{\r\n b = c \r\n}",
	} {
		back(t, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a : b, c.d {\n k = \"v\\\"\" w # c\n}\ninclude x*\n")
	f.Add("a { b { c = d } } }\n\x00")
	f.Fuzz(func(t *testing.T, text string) { back(t, text) })
}
