package negotiate_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/negotiate"
)

// TestSizesOf has sizes that a kernel was measured to take (lab/emulated). UDP counts at whichever end asks for it, and both ends say the
// same. A link of 1400 leaves 1340 after 20, 8, 16 and 16 bytes: 83 blocks of 16, less 2 (RFC 4303, section 2).
func TestSizesOf(t *testing.T) {
	encap := over{"encap": "yes"}
	for name, c := range map[string]struct {
		a, b  over
		link  int
		inner int
	}{
		"plain":                   {over{}, over{}, 0, 1438},
		"UDP is asked for":        {encap, over{}, 0, 1422},
		"the far end asks for it": {over{}, encap, 0, 1422},
		"the link is told":        {over{}, over{}, 1400, 1326},
		"a link of no use":        {over{}, over{}, 40, 0},
	} {
		tn := tunnel(t, c.a, c.b)
		suite := negotiate.Tunnel(tn)[0].Children[0].Suite
		for _, e := range tn.Ends {
			var by *model.Interface
			if c.link > 0 {
				by = &model.Interface{}
				by.MTU.Value = c.link
			}
			require.NotEmpty(t, e.Connection.Children, name)
			z, ok := negotiate.SizesOf(tn, e, e.Connection.Children[0], suite, by)
			assert.Equal(t, c.inner > 0, ok, name)
			assert.Equal(t, c.link > 0, z.Told, name)
			if ok {
				assert.Equal(t, c.inner, z.InnerMTU, name)
			}
		}
	}
	tn := tunnel(t, over{}, over{})
	_, ok := negotiate.SizesOf(tn, tn.Ends[0], tn.Ends[0].Connection.Children[0], ike.Suite{}, nil)
	assert.False(t, ok, "no suite was agreed on")
}

// TestSizesBehindNAT: ESP goes in UDP where an end must be behind NAT, unless one refuses.
func TestSizesBehindNAT(t *testing.T) {
	pairs := namedPairs(t, "testdata/makes-nat.txtar")
	for name, want := range map[string]int{
		"plain": 1438, "plain-of-Libreswan": 1438, "never-in-udp-at-Libreswan": 1446, "never-in-udp-of-Libreswan": 1446,
		"no-local-address-and-the-inside-one-expected": 1438,
	} {
		tu := tunnelOfMakes(t, pairs[name])
		for i, e := range tu.Ends {
			suite := negotiate.Tunnel(tu)[0].Children[0].Suite
			z, ok := negotiate.SizesOf(tu, e, e.Connection.Children[0], suite, nil)
			assert.True(t, ok, name)
			assert.Equal(t, want, z.InnerMTU, "%s, end %d", name, i)
			assert.Equal(t, i == 0, tu.BehindNAT(e), "%s, end %d", name, i)
		}
	}
	plain := tunnelOfMakes(t, namedPairs(t, "testdata/makes-certificates.txtar")["rsa"])
	assert.False(t, plain.BehindNAT(plain.Ends[0]), "private addresses of both, that both know")
}
