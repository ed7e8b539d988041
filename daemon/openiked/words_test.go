package openiked

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

// TestWhatIsWrittenIsReadAgain writes every algorithm that the daemon has a word for, and its own proposals, and reads them.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	read := func(protocol ike.Protocol, text string) ike.Transforms {
		var out ike.Transforms
		f := strings.Fields(text)
		for i := 0; i < len(f); i++ {
			if n := strings.TrimSuffix(f[i], "esn"); n != f[i] {
				out[ike.Sequence] = append(out[ike.Sequence], ike.Pick(ike.Sequence, map[string]uint16{"": 1, "no": 0}[n], 0))
				continue
			}
			c, ok := Transform(protocol, f[i], f[i+1])
			require.True(t, ok, text)
			out[c.Registry] = append(out[c.Registry], c)
			i++
		}
		return out
	}
	again := func(p ike.Proposal) {
		text, err := Write(p)
		require.NoError(t, err)
		assert.Equal(t, p.Transforms, read(p.Protocol, text), text)
	}
	for kind, names := range map[string][]string{"enc": keys(ciphers()), "auth": keys(auths), "prf": keys(prfs), "group": keys(groups)} {
		for _, name := range names {
			known := false
			for _, protocol := range []ike.Protocol{ike.IKE, ike.ESP} {
				if c, ok := Transform(protocol, kind, name); ok {
					known = true
					p := ike.Proposal{Protocol: protocol}
					p.Transforms[c.Registry] = ike.Choices{c}
					again(p)
				}
			}
			assert.True(t, known, name)
		}
	}
	for _, protocol := range []ike.Protocol{ike.IKE, ike.ESP, ike.AH} {
		for _, p := range Default(protocol) {
			again(p)
		}
	}
}

func keys[V any](m map[string]V) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	return out
}

func TestWhatTheDaemonCannotSay(t *testing.T) {
	var unknown, further ike.Proposal
	unknown.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 16, 128)}
	further.Transforms[ike.Additional1] = ike.Picks(ike.KeyExchange, 36)
	for want, p := range map[string]ike.Proposal{"has no word in iked.conf": unknown, "additional key exchanges": further} {
		_, err := Write(p)
		assert.ErrorContains(t, err, want)
	}
}
