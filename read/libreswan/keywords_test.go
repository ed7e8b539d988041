package libreswan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKeywords: what the daemon means by its names of algorithms; of a list the first proposal.
func TestKeywords(t *testing.T) {
	for text, want := range map[string]string{
		"aes128-sha2_256-modp2048":        "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)",
		"aes256-sha2_512;modp4096":        "AES-CBC-256 / HMAC-SHA2-512 cut to 256 bits / HMAC-SHA2-512 / group 16 (MODP 4096)",
		"aes256-sha2_384-dh20":            "AES-CBC-256 / HMAC-SHA2-384 cut to 192 bits / HMAC-SHA2-384 / group 20 (NIST P-384)",
		"aes_cbc256-sha2-dh19":            "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 19 (NIST P-256)",
		"aes256-sha1-modp1536":            "AES-CBC-256 / HMAC-SHA1 cut to 96 bits / HMAC-SHA1 / group 5 (MODP 1536)",
		"3des-sha1-modp1536":              "3DES / HMAC-SHA1 cut to 96 bits / HMAC-SHA1 / group 5 (MODP 1536)",
		"aes_gcm256-sha2_512-dh21":        "AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-512 / group 21 (NIST P-521)",
		"aes_gcm_c_256-sha2_256-dh31":     "AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-256 / group 31 (Curve25519)",
		"aes256-sha2_256-modp3072":        "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 15 (MODP 3072)",
		"aes192-sha2_256-ecp_521":         "AES-CBC-192 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 21 (NIST P-521)",
		"chacha20_poly1305-sha2_256-dh14": "ChaCha20-Poly1305 / HMAC-SHA2-256 / group 14 (MODP 2048)",
	} {
		g := readConf(t, "conn c\n\tikev2=insist\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tauthby=secret\n\tauto=add\n\tike="+text+"\n")
		require.Len(t, g.Connections, 1, text)
		require.Nil(t, g.Connections[0].Unusable, "%s: %v", text, g.Connections[0].Unusable)
		require.NotEmpty(t, g.Connections[0].Proposals.Value, text)
		assert.Equal(t, want, g.Connections[0].Proposals.Value[0].Names(), text)
	}
}

func TestKeywordsThatAreNone(t *testing.T) {
	for _, text := range []string{"rot13-sha1-modp2048", "aes256-sha9-modp2048", "aes256-sha1-modp7"} {
		g := readConf(t, "conn c\n\tikev2=insist\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tauthby=secret\n\tauto=add\n\tike="+text+"\n")
		require.Len(t, g.Connections, 1, text)
		assert.NotNil(t, g.Connections[0].Unusable, "the daemon does not load it: %s", text)
	}
}
