package baseline_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/baseline"
	"toril/ike"
)

// TestLevelsOfTheRFCs holds the baseline "rfc" against the tables of RFC 8221 and RFC 8247, as later documents left them.
func TestLevelsOfTheRFCs(t *testing.T) {
	type row struct {
		registry ike.Registry
		id       uint16
		bits     int
		want     baseline.Level
	}
	for protocol, rows := range map[ike.Protocol][]row{
		ike.ESP: { // RFC 8221 sections 5 and 6
			{ike.Encryption, 1, 0, baseline.MustNot},   // ENCR_DES_IV64
			{ike.Encryption, 2, 0, baseline.MustNot},   // ENCR_DES
			{ike.Encryption, 3, 0, baseline.ShouldNot}, // ENCR_3DES
			{ike.Encryption, 7, 0, baseline.MustNot},   // ENCR_BLOWFISH
			{ike.Encryption, 8, 0, baseline.MustNot},   // ENCR_3IDEA
			{ike.Encryption, 9, 0, baseline.MustNot},   // ENCR_DES_IV32
			{ike.Encryption, 11, 0, baseline.Must},     // ENCR_NULL
			{ike.Encryption, 12, 128, baseline.Must},   // ENCR_AES_CBC
			{ike.Encryption, 12, 256, baseline.Must},   //
			{ike.Encryption, 14, 128, baseline.Should}, // ENCR_AES_CCM_8
			{ike.Encryption, 20, 128, baseline.Must},   // ENCR_AES_GCM_16
			{ike.Encryption, 20, 256, baseline.Must},   //
			{ike.Encryption, 28, 0, baseline.Should},   // ENCR_CHACHA20_POLY1305
			{ike.Integrity, 1, 0, baseline.MustNot},    // AUTH_HMAC_MD5_96
			{ike.Integrity, 2, 0, baseline.MustLess},   // AUTH_HMAC_SHA1_96
			{ike.Integrity, 3, 0, baseline.MustNot},    // AUTH_DES_MAC
			{ike.Integrity, 4, 0, baseline.MustNot},    // AUTH_KPDK_MD5
			{ike.Integrity, 12, 0, baseline.Must},      // AUTH_HMAC_SHA2_256_128
			{ike.Integrity, 14, 0, baseline.Should},    // AUTH_HMAC_SHA2_512_256
		},
		ike.IKE: { // RFC 8247 section 2
			{ike.Encryption, 2, 0, baseline.MustNot},    // ENCR_DES
			{ike.Encryption, 12, 128, baseline.Must},    // ENCR_AES_CBC
			{ike.Encryption, 20, 128, baseline.Should},  // ENCR_AES_GCM_16
			{ike.Encryption, 28, 0, baseline.Should},    // ENCR_CHACHA20_POLY1305
			{ike.PRF, 1, 0, baseline.MustNot},           // PRF_HMAC_MD5
			{ike.PRF, 2, 0, baseline.MustLess},          // PRF_HMAC_SHA1
			{ike.PRF, 5, 0, baseline.Must},              // PRF_HMAC_SHA2_256
			{ike.PRF, 7, 0, baseline.ShouldMore},        // PRF_HMAC_SHA2_512
			{ike.Integrity, 1, 0, baseline.MustNot},     // AUTH_HMAC_MD5_96
			{ike.Integrity, 2, 0, baseline.MustLess},    // AUTH_HMAC_SHA1_96
			{ike.Integrity, 3, 0, baseline.MustNot},     // AUTH_DES_MAC
			{ike.Integrity, 4, 0, baseline.MustNot},     // AUTH_KPDK_MD5
			{ike.Integrity, 12, 0, baseline.Must},       // AUTH_HMAC_SHA2_256_128
			{ike.KeyExchange, 1, 0, baseline.MustNot},   // MODP 768
			{ike.KeyExchange, 2, 0, baseline.ShouldNot}, // MODP 1024
			{ike.KeyExchange, 5, 0, baseline.ShouldNot}, // MODP 1536
			{ike.KeyExchange, 14, 0, baseline.Must},     // MODP 2048
			{ike.KeyExchange, 19, 0, baseline.Should},   // NIST P-256
			{ike.KeyExchange, 22, 0, baseline.MustNot},  // MODP 1024 with a subgroup of 160 bits
			{ike.KeyExchange, 23, 0, baseline.ShouldNot},
			{ike.KeyExchange, 24, 0, baseline.ShouldNot},
		},
	} {
		for _, r := range rows {
			c := ike.Pick(r.registry, r.id, r.bits)
			got, rule := named(t, "rfc").Judge(protocol, c)
			assert.Equal(t, r.want, got, "%s: %s", protocol, c)
			assert.NotEmpty(t, rule.Source.String(), "%s: %s", protocol, c)
		}
	}
}

// TestNoBaselineForbidsEverything: each leaves a way to build a tunnel, and the house's own rests on the RFCs.
func TestNoBaselineForbidsEverything(t *testing.T) {
	for _, name := range baseline.Names() {
		b := named(t, name)
		for _, registry := range []ike.Registry{ike.Encryption, ike.PRF, ike.KeyExchange} {
			allowed := 0
			for i := range ike.Catalogue {
				a := &ike.Catalogue[i]
				if a.Registry != registry {
					continue
				}
				bits := 0
				if len(a.Keys) > 0 {
					bits = a.Keys[len(a.Keys)-1]
				}
				if level, _ := b.Judge(ike.IKE, ike.Pick(registry, a.ID, bits)); !level.Against() {
					allowed++
				}
			}
			assert.Positive(t, allowed, "%s: %s", name, registry)
		}
	}
	sound, rfc := named(t, "sound"), named(t, "rfc")
	for i := range ike.Catalogue {
		a := &ike.Catalogue[i]
		if a.Registry > ike.KeyExchange {
			continue
		}
		c := ike.Pick(a.Registry, a.ID, 0)
		if level, _ := rfc.Judge(ike.IKE, c); level == baseline.MustNot {
			own, _ := sound.Judge(ike.IKE, c)
			assert.Equal(t, baseline.MustNot, own, "what the RFCs forbid the house forbids: %s", c)
		}
	}
}
