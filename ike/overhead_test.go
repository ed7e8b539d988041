package ike_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/ike"
)

func suiteOf(protocol ike.Protocol, cs ...ike.Choice) ike.Suite {
	s := ike.Suite{Protocol: protocol}
	for _, c := range cs {
		s.Transforms[c.Registry] = c
	}
	return s
}

// TestInnerMTU has sizes that a Linux kernel was measured to take, to the byte (lab/emulated).
func TestInnerMTU(t *testing.T) {
	gcm := suiteOf(ike.ESP, ike.Pick(ike.Encryption, 20, 256))
	cbc := suiteOf(ike.ESP, ike.Pick(ike.Encryption, 12, 256), ike.Pick(ike.Integrity, 12, 0))
	des := suiteOf(ike.ESP, ike.Pick(ike.Encryption, 3, 0), ike.Pick(ike.Integrity, 2, 0))
	none := suiteOf(ike.ESP, ike.Pick(ike.Encryption, 11, 0), ike.Pick(ike.Integrity, 2, 0))
	ah := suiteOf(ike.AH, ike.Pick(ike.Integrity, 12, 0))
	for _, c := range []struct {
		name  string
		suite ike.Suite
		wrap  ike.Wrap
		want  int
	}{
		{"AES-GCM", gcm, ike.Wrap{}, 1446},
		{"AES-GCM in UDP", gcm, ike.Wrap{Encapsulated: true}, 1438},
		{"AES-GCM over IPv6", gcm, ike.Wrap{Outer6: true}, 1426},
		{"AES-CBC with HMAC-SHA2-256", cbc, ike.Wrap{}, 1438},
		{"the same, cut to 96 bits", cbc, ike.Wrap{Cut96: true}, 1438},
		{"AES-CBC in UDP", cbc, ike.Wrap{Encapsulated: true}, 1422},
		{"AES-CBC in transport mode", cbc, ike.Wrap{Mode: ike.Transport}, 1458},
		{"3DES with HMAC-SHA1", des, ike.Wrap{}, 1446},
		{"no encryption", none, ike.Wrap{}, 1458},
		{"AH", ah, ike.Wrap{Protocol: ike.AH}, 1452},
	} {
		assert.Equal(t, c.want, c.suite.InnerMTU(c.wrap, 1500), c.name)
	}
	assert.Zero(t, gcm.InnerMTU(ike.Wrap{}, 40))
	assert.Equal(t, 1406, ike.Wrap{}.MSS(1446))
	assert.Equal(t, 1386, ike.Wrap{Inner6: true}.MSS(1446))
}
