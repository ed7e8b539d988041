package strongswan

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
