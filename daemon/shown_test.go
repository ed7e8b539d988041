package daemon_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon"
	"toril/ike"
)

func TestShown(t *testing.T) {
	for text, want := range map[string]string{
		"AES_CBC_256":       "AES-CBC-256",
		"AES_CBC-128":       "AES-CBC-128",
		"AES_GCM_16-256":    "AES-GCM-256 with a 16-byte ICV",
		"AES_GCM_16_256":    "AES-GCM-256 with a 16-byte ICV",
		"3DES_CBC":          "3DES",
		"CHACHA20_POLY1305": "ChaCha20-Poly1305",
		"NULL":              "no encryption",
		"HMAC_SHA2_256_128": "HMAC-SHA2-256 cut to 128 bits",
		"HMAC_MD5_96":       "HMAC-MD5 cut to 96 bits",
		"PRF_HMAC_SHA2_384": "HMAC-SHA2-384",
		"MODP_2048":         "group 14 (MODP 2048)",
		"MODP1536":          "group 5 (MODP 1536)",
		"ECP_384":           "group 20 (NIST P-384)",
		"DH19":              "group 19 (NIST P-256)",
		"CURVE_25519":       "group 31 (Curve25519)",
	} {
		c, ok := daemon.Shown(text)
		if assert.True(t, ok, text) {
			assert.Equal(t, want, c.Label(), text)
		}
	}
	for _, text := range []string{"", "PAPYRUS", "AES_CBC", "DHx", "MODP_99"} {
		c, ok := daemon.Shown(text)
		assert.False(t, ok && text != "AES_CBC", "%s: %v", text, c)
	}
	s, all := daemon.SuiteShown(ike.ESP, "AES_CBC_256", "HMAC_SHA2_256_128", "", "NO_EXT_SEQ")
	assert.True(t, all)
	assert.Equal(t, "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits", s.String())
	s, all = daemon.SuiteShown(ike.ESP, "AES_GCM_16_256", "EXT_SEQ", "WARBLE")
	assert.False(t, all)
	assert.True(t, s.ESN())
}
