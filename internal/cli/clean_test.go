package cli

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheDoor(t *testing.T) {
	for in, want := range map[string]string{
		"plain, größe, 漢字\nnext\n":        "plain, größe, 漢字\nnext\n",
		"\x1b[2J\x1b]0;t\x07\r\b\x00\x7f": `\u001b[2J\u001b]0;t\u0007\u000d\u0008\u0000\u007f`,
		"\u009b31m":                       `\u009b31m`,
		"a\u202eb\u2066c\u200fd\ufeffe":   `a\u202eb\u2066c\u200fd\ufeffe`,
		"one\u2028two":                    `one\u2028two`,
		"bad \x9b\xff utf-8 \xc3":         `bad \x9b\xff utf-8 \xc3`,
		"\x1b[31mred\x1b[0m":              `\u001b[31mred\u001b[0m`,
	} {
		for _, piece := range []int{1, 2, 3, 1000} { // however it is cut
			var out bytes.Buffer
			d := &cleanWriter{to: &out}
			for at := 0; at < len(in); at += piece {
				n, err := d.Write([]byte(in[at:min(len(in), at+piece)]))
				require.NoError(t, err)
				assert.Positive(t, n)
			}
			require.NoError(t, d.Close())
			assert.Equal(t, want, out.String())
		}
	}
	var out bytes.Buffer
	_, err := (&cleanWriter{to: &out, color: true}).Write([]byte("\x1b[1;91mred\x1b[0m \x1b[8mhidden\x1b[2J"))
	require.NoError(t, err)
	assert.Equal(t, "\x1b[1;91mred\x1b[0m "+`\u001b[8mhidden\u001b[2J`, out.String(), "colours, and nothing else")
	out.Reset()
	require.NoError(t, json.NewEncoder(&cleanWriter{to: &out}).Encode(map[string]string{"a": "x\u202ey\u009bz"}))
	var back map[string]string
	require.NoError(t, json.Unmarshal(out.Bytes(), &back), out.String())
	assert.Equal(t, "x\u202ey\u009bz", back["a"], "JSON stays JSON, and says the same")
}

func TestWhatIsPlainAndHowLongItsLastWordIs(t *testing.T) {
	for c := range 256 { // wherever a character stands among eight
		for at := range 17 {
			text := []byte(`the 17 characters`)
			text[at] = byte(c)
			assert.Equal(t, c == '\n' || c >= ' ' && c <= '~' && c != '\\', (&cleanWriter{}).plain(text), "%q", text)
		}
	}
	word := func(n int) string { return strings.Repeat("w", n) }
	for _, c := range []struct {
		before int // how long the word is that goes on
		text   string
		plain  bool
		last   int // how long the last one is
	}{
		{0, "", true, 0},
		{7, "", true, 7},
		{7, "abc", true, 10},
		{7, "abc d", true, 1},
		{0, word(maxWord), true, maxWord},
		{0, word(maxWord) + " ", true, 0},
		{0, word(maxWord + 1), false, 0},
		{0, word(maxWord+1) + " ", false, 0},
		{1, word(maxWord), false, 1},
		{1, word(maxWord-1) + "," + word(maxWord) + "/" + word(12), true, 12},
		{maxWord, " " + word(maxWord) + "\n" + word(maxWord), true, maxWord},
		{maxWord, " " + word(maxWord) + "\n" + word(maxWord+1), false, maxWord},
		{0, strings.Repeat(word(400)+" ", 40) + word(maxWord+1) + strings.Repeat(" w", 2000), false, 0},
	} {
		d := &cleanWriter{word: c.before}
		assert.Equal(t, c.plain, d.plain([]byte(c.text)), "%d and %d characters", c.before, len(c.text))
		if c.plain {
			assert.Equal(t, c.last, d.word)
		}
	}
}
