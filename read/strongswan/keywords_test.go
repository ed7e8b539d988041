package strongswan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

// TestKeywords: what the daemon means by its names of transforms, by IANA's numbers.
func TestKeywords(t *testing.T) {
	type choice struct {
		registry ike.Registry
		id       uint16
		bits     int
	}
	const cbc, ctr, gcm8, gcm12, gcm16, ccm8, ccm12, ccm16 = 12, 13, 18, 19, 20, 14, 15, 16
	for word, c := range map[string]choice{
		"aes128": {ike.Encryption, cbc, 128}, "aes192": {ike.Encryption, cbc, 192}, "aes256": {ike.Encryption, cbc, 256}, "aes": {ike.Encryption, cbc, 128},
		"aes128ctr": {ike.Encryption, ctr, 128}, "aes256ctr": {ike.Encryption, ctr, 256},
		"aes128gcm8": {ike.Encryption, gcm8, 128}, "aes128gcm64": {ike.Encryption, gcm8, 128}, "aes256gcm12": {ike.Encryption, gcm12, 256}, "aes256gcm96": {ike.Encryption, gcm12, 256},
		"aes128gcm16": {ike.Encryption, gcm16, 128}, "aes192gcm16": {ike.Encryption, gcm16, 192}, "aes256gcm16": {ike.Encryption, gcm16, 256}, "aes256gcm128": {ike.Encryption, gcm16, 256},
		"aes128ccm8": {ike.Encryption, ccm8, 128}, "aes128ccm12": {ike.Encryption, ccm12, 128}, "aes256ccm16": {ike.Encryption, ccm16, 256}, "aes256ccm128": {ike.Encryption, ccm16, 256},
		"3des": {ike.Encryption, 3, 0}, "camellia128": {ike.Encryption, 23, 128}, "camellia256": {ike.Encryption, 23, 256}, "chacha20poly1305": {ike.Encryption, 28, 256},
		"sha1": {ike.Integrity, 2, 0}, "sha": {ike.Integrity, 2, 0}, "md5": {ike.Integrity, 1, 0}, "sha256": {ike.Integrity, 12, 0}, "sha2_256": {ike.Integrity, 12, 0}, "sha384": {ike.Integrity, 13, 0}, "sha512": {ike.Integrity, 14, 0},
		"aesxcbc": {ike.Integrity, 5, 0}, "aescmac": {ike.Integrity, 8, 0},
		"prfmd5": {ike.PRF, 1, 0}, "prfsha1": {ike.PRF, 2, 0}, "prfsha256": {ike.PRF, 5, 0}, "prfsha384": {ike.PRF, 6, 0}, "prfsha512": {ike.PRF, 7, 0}, "prfaesxcbc": {ike.PRF, 4, 0}, "prfaescmac": {ike.PRF, 8, 0},
		"modp768": {ike.KeyExchange, 1, 0}, "modp1024": {ike.KeyExchange, 2, 0}, "modp1536": {ike.KeyExchange, 5, 0}, "modp2048": {ike.KeyExchange, 14, 0}, "modp3072": {ike.KeyExchange, 15, 0}, "modp4096": {ike.KeyExchange, 16, 0},
		"modp6144": {ike.KeyExchange, 17, 0}, "modp8192": {ike.KeyExchange, 18, 0}, "ecp256": {ike.KeyExchange, 19, 0}, "ecp384": {ike.KeyExchange, 20, 0}, "ecp521": {ike.KeyExchange, 21, 0},
		"modp1024s160": {ike.KeyExchange, 22, 0}, "modp2048s224": {ike.KeyExchange, 23, 0}, "modp2048s256": {ike.KeyExchange, 24, 0}, "ecp192": {ike.KeyExchange, 25, 0}, "ecp224": {ike.KeyExchange, 26, 0},
		"ecp224bp": {ike.KeyExchange, 27, 0}, "ecp256bp": {ike.KeyExchange, 28, 0}, "ecp384bp": {ike.KeyExchange, 29, 0}, "ecp512bp": {ike.KeyExchange, 30, 0},
		"curve25519": {ike.KeyExchange, 31, 0}, "x25519": {ike.KeyExchange, 31, 0}, "curve448": {ike.KeyExchange, 32, 0}, "x448": {ike.KeyExchange, 32, 0},
	} {
		var text string // a whole proposal of the IKE SA around the word
		switch want := ike.Pick(c.registry, c.id, 0); {
		case c.registry == ike.Encryption && want.Combined:
			text = word + "-prfsha256-ecp256"
		case c.registry == ike.Encryption:
			text = word + "-sha256-ecp256"
		case c.registry == ike.Integrity:
			text = "aes128-" + word + "-prfsha256-ecp256"
		case c.registry == ike.PRF:
			text = "aes128-sha256-" + word + "-ecp256"
		default:
			text = "aes128-sha256-" + word
		}
		g := swanctl("connections {\n c {\n proposals = "+text+"\n }\n}\n", nil)
		require.Len(t, g.Connections, 1, word)
		require.Nil(t, g.Connections[0].Unusable, "%s: %v", word, g.Connections[0].Unusable)
		got := g.Connections[0].Proposals.Value
		require.Len(t, got, 1, word)
		found := got[0].Of(c.registry)
		require.NotEmpty(t, found, word)
		assert.Equal(t, c.id, found[0].ID, word)
		if c.bits > 0 && len(found[0].Keys) > 0 {
			assert.Equal(t, c.bits, found[0].KeyBits, word)
		}
	}
}

func TestKeywordsOfESP(t *testing.T) {
	for text, want := range map[string]string{
		"aes256gcm16":                "AES-GCM-256 with a 16-byte ICV",
		"aes256gcm16-ecp384":         "AES-GCM-256 with a 16-byte ICV / group 20 (NIST P-384)",
		"aes128-sha1":                "AES-CBC-128 / HMAC-SHA1 cut to 96 bits",
		"aes128-sha256-modp2048":     "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / group 14 (MODP 2048)",
		"3des-md5":                   "3DES / HMAC-MD5 cut to 96 bits",
		"null-sha256":                "no encryption / HMAC-SHA2-256 cut to 128 bits",
		"chacha20poly1305-x25519":    "ChaCha20-Poly1305 / group 31 (Curve25519)",
		"aes128gmac":                 "AES-GMAC-128 without encryption",
		"aes256-sha512-modp2048-esn": "AES-CBC-256 / HMAC-SHA2-512 cut to 256 bits / group 14 (MODP 2048) / ESN",
	} {
		g := swanctl("connections {\n c {\n children {\n k {\n esp_proposals = "+text+"\n }\n }\n }\n}\n", nil)
		require.Len(t, g.Connections[0].Children, 1)
		require.NotEmpty(t, g.Connections[0].Children[0].Proposals.Value, text)
		assert.Equal(t, want, g.Connections[0].Children[0].Proposals.Value[0].Names(), text)
	}
}
