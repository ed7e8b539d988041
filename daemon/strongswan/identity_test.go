package strongswan

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/syntax"
	"toril/syntax/braces"
)

func TestIdentities(t *testing.T) {
	same := [][]string{
		{"@x.example", "x.example", "fqdn:X.example"},
		{"/C=AT/CN=a", "C=AT, CN=a", "c=AT,cn=A"},
		{"10.0.0.1", "ipv4:#0a000001"},
		{"a@b.example", "@@a@b.example", "email:a@b.example"},
	}
	for _, group := range same {
		for _, text := range group[1:] {
			assert.Equal(t, ParseIdentity(group[0]), ParseIdentity(text), text)
		}
	}
	different := []string{"x", "keyid:x", "@10.0.0.1", "10.0.0.1", "ipv4:10.0.0.1", "%any", "10.0.0.0/24"}
	for i, a := range different {
		for _, b := range different[i+1:] {
			assert.NotEqual(t, ParseIdentity(a), ParseIdentity(b), "%s %s", a, b)
		}
	}
	for pattern, text := range map[string]string{"*.example": "a.b.example", "%any": "x", "10.0.0.0/24": "10.0.0.9",
		"10.0.0.1-10.0.0.9": "10.0.0.9", "C=AT, CN=*": "C=AT, CN=b", "*@x.example": "a@x.example"} {
		assert.True(t, ParseIdentity(pattern).Accepts(ParseIdentity(text)), pattern)
		assert.False(
			t,
			ParseIdentity(pattern).Accepts(ParseIdentity("C=AT, CN=b, O=c")) && pattern != "%any",
			pattern,
		)
	}
}

// values are the values that a file says.
type values []string

func (v *values) Value(_ string, value syntax.Word, _ syntax.Place) { *v = append(*v, value.Text) }

func (*values) Open(string, []braces.Reference, syntax.Place) {}
func (*values) Close()                                        {}
func (*values) Include(string, syntax.Place)                  {}
func (*values) Broken(int, string)                            {}
func (*values) Unread(int, string, string)                    {}
func (*values) TooDeep(int)                                   {}

// TestWhatIsQuotedIsReadAsItWas: a value ends at a comment, a brace or a line end, unless it is quoted.
func TestWhatIsQuotedIsReadAsItWas(t *testing.T) {
	for _, text := range []string{"gate.example", `C=AT, O="a" #1, CN={b}`, `a\b`, `a\b # "c"`, ` two  words `, "a\nb"} {
		var got values
		braces.Parse([]byte("k = "+quoted(text)+"\n"), &got)
		assert.Equal(t, values{text}, got)
	}
}
