package cli

import (
	"bytes"
	"encoding/json"
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
			d := &door{to: &out}
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
	_, err := (&door{to: &out, color: true}).Write([]byte("\x1b[1;91mred\x1b[0m \x1b[8mhidden\x1b[2J"))
	require.NoError(t, err)
	assert.Equal(t, "\x1b[1;91mred\x1b[0m "+`\u001b[8mhidden\u001b[2J`, out.String(), "colours, and nothing else")
	out.Reset()
	require.NoError(t, json.NewEncoder(&door{to: &out}).Encode(map[string]string{"a": "x\u202ey\u009bz"}))
	var back map[string]string
	require.NoError(t, json.Unmarshal(out.Bytes(), &back), out.String())
	assert.Equal(t, "x\u202ey\u009bz", back["a"], "JSON stays JSON, and says the same")
}
