package lazy

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatAMatchNeeds(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		may           bool
	}{
		{`(?m)^[ \t]*(connections|secrets)[ \t]*(:[^{}\n]*)?\{`, "connections {", true},
		{`(?m)^[ \t]*(connections|secrets)[ \t]*(:[^{}\n]*)?\{`, "connections", false},
		{`(?m)^[ \t]*(connections|secrets)[ \t]*(:[^{}\n]*)?\{`, "{ }", false},
		{`^\d+: \S+: <[A-Z]*>`, "x: y: <", false},
		{`(?i)secret`, "", true},
		{`a?b*`, "", true},
		{`(x|)y+`, "x", false},
		{`(?:abc){2,}`, "abc", true},
		{`foo|[0-9]`, "", true},
	} {
		assert.Equal(t, c.may, NewSearch(c.pattern).May([]byte(c.text)), "%s in %q", c.pattern, c.text)
	}
	assert.Panics(t, func() { NewSearch(`(`).Match([]byte("x")) })
}

// FuzzSearch: a search finds what the expression alone finds.
func FuzzSearch(f *testing.F) {
	f.Add(`(?m)^[ \t]*(auto|iface)[ \t]+\S+`, "# x\niface eth0")
	f.Add(`a(b|c)+|d`, "xxacb")
	f.Add(`(?i)AbC`, "abc")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		re, err := regexp.Compile(pattern)
		if err != nil || len(pattern) > 200 {
			return
		}
		s, data := NewSearch(pattern), []byte(text)
		assert.Equal(t, re.Match(data), s.Match(data))
		assert.Equal(t, re.Find(data), s.Find(data))
		assert.Equal(t, re.FindIndex(data), s.FindIndex(data))
		assert.Equal(t, re.FindSubmatch(data), s.FindSubmatch(data))
		assert.Equal(t, re.FindAll(data, 3), s.FindAll(data, 3))
	})
}
