package strongswan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

func TestEveryKeywordIsWrittenAsItIsRead(t *testing.T) {
	require.Greater(t, len(words().means), 100)
	for name, c := range words().means {
		p := ike.Proposal{Protocol: ike.ESP}
		p.Transforms[c.Registry] = ike.Choices{c}
		text, err := Write(p)
		require.NoError(t, err, name)
		assert.Equal(t, c, words().means[text], "%s is written as %s", name, text)
	}
}

func TestAlgorithmWithoutKeyword(t *testing.T) {
	p := ike.Proposal{Protocol: ike.ESP}
	p.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 4, 128)}
	_, err := Write(p)
	assert.ErrorContains(t, err, "has no keyword in swanctl.conf")
}
