package lazy

import (
	"regexp"
	"regexp/syntax"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAMatchNeeds(t *testing.T) {
	for pattern, want := range map[string][]string{
		`(?m)^[ \t]*(connections|secrets)[ \t]*(:[^{}\n]*)?\{`: {"connections", "secrets"},
		`^\d+: \S+: <[A-Z]*>`: {": <"},
		`(?i)secret`:          nil,
		`a?b*`:                nil,
		`(x|)y+`:              {"y"},
		`(?:abc){2,}`:         {"abc"},
		`foo|[0-9]`:           nil,
	} {
		tree, err := syntax.Parse(pattern, syntax.Perl)
		require.NoError(t, err)
		assert.ElementsMatch(t, want, needed(tree.Simplify()), pattern)
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
