package iked_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/read/iked"
	"toril/read/readtest"
)

// TestKeywords: what the daemon means by its names of transforms (iked.conf(5), CRYPTO TRANSFORMS).
func TestKeywords(t *testing.T) {
	for text, want := range map[string]string{
		"enc aes-128 auth hmac-sha2-256 prf hmac-sha2-256 group modp2048": "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / " +
			"HMAC-SHA2-256 / group 14 (MODP 2048)",
		"enc aes-192 auth hmac-sha2-384 prf hmac-sha2-384 group modp3072": "AES-CBC-192 / HMAC-SHA2-384 cut to 192 bits / " +
			"HMAC-SHA2-384 / group 15 (MODP 3072)",
		"enc aes-256 auth hmac-sha2-512 prf hmac-sha2-512 group modp4096": "AES-CBC-256 / HMAC-SHA2-512 cut to 256 bits / " +
			"HMAC-SHA2-512 / group 16 (MODP 4096)",
		"enc 3des auth hmac-sha1 prf hmac-sha1 group modp1024": "3DES / HMAC-SHA1 cut to 96 bits / HMAC-SHA1 / group " +
			"2 (MODP 1024)",
		"enc 3des auth hmac-md5 prf hmac-md5 group modp768": "3DES / HMAC-MD5 cut to 96 bits / HMAC-MD5 / group 1 " +
			"(MODP 768)",
		"enc aes-128-gcm prf hmac-sha2-256 group ecp256": "AES-GCM-128 with a 16-byte ICV / HMAC-SHA2-256 / " +
			"group 19 (NIST P-256)",
		"enc aes-256-gcm prf hmac-sha2-384 group ecp384": "AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-384 / " +
			"group 20 (NIST P-384)",
		"enc aes-256-gcm-12 prf hmac-sha2-256 group ecp521": "AES-GCM-256 with a 12-byte ICV / HMAC-SHA2-256 / " +
			"group 21 (NIST P-521)",
		"enc aes-256 auth hmac-sha2-256 prf hmac-sha2-256 group curve25519": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / " +
			"HMAC-SHA2-256 / group 31 (Curve25519)",
		"enc aes-256 auth hmac-sha2-256 prf hmac-sha2-256 group grp14": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / " +
			"HMAC-SHA2-256 / group 14 (MODP 2048)",
		"enc aes-256 auth hmac-sha2-256 prf hmac-sha2-256 group brainpool256": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / " +
			"HMAC-SHA2-256 / group 28 (Brainpool P256r1)",
		"enc aes-256 auth hmac-sha2-256 prf hmac-sha2-256 group modp1536": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / " +
			"HMAC-SHA2-256 / group 5 (MODP 1536)",
	} {
		g := readtest.Read(
			iked.Format,
			"iked.conf",
			"ikev2 \"q\" active esp from 10.1.0.0/16 to 10.2.0.0/16 local 192.0.2.1 peer 198.51.100.7 ikesa "+text+
				" psk \"not a real key\"\n",
			nil,
		)
		require.Empty(t, readtest.Problems(g), text)
		require.Len(t, g.Connections, 1, text)
		require.NotEmpty(t, g.Connections[0].Proposals.Value, text)
		assert.Equal(t, want, g.Connections[0].Proposals.Value[0].Names(), text)
		for _, k := range g.Connections[0].Children {
			assert.True(t, k.Proposals.IsDefault(), "the child's are the daemon's own: %s", text)
		}
	}
}

func TestKeywordsThatAreNone(t *testing.T) {
	for _, text := range []string{"enc rot13", "enc aes-128 auth hmac-sha9", "enc aes-128 auth hmac-sha1 prf hmac-sha1 group modp7"} {
		g := readtest.Read(
			iked.Format,
			"iked.conf",
			"ikev2 \"q\" active esp from 10.1.0.0/16 to 10.2.0.0/16 local 192.0.2.1 peer 198.51.100.7 ikesa "+text+
				" psk \"not a real key\"\n"+
				"ikev2 \"r\" active esp from 10.1.0.0/16 to 10.3.0.0/16 peer 198.51.100.8 psk \"nor this\"\n",
			nil,
		)
		said := append(readtest.Problems(g), readtest.Unread(g)...)
		for _, c := range g.Connections {
			if c.Unusable != nil {
				said = append(said, c.Unusable.Error())
			}
		}
		assert.NotEmpty(t, said, "it is said: %s", text)
		for _, s := range said {
			assert.NotContains(t, s, "not a real key")
		}
	}
}
