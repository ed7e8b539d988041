package ike_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

// TestNumbersAndWhatTheyMean holds the values against the documents that define them: number, name, the length of what
// protects integrity, whether a cipher does so itself.
func TestNumbersAndWhatTheyMean(t *testing.T) {
	for _, c := range []struct {
		registry ike.Registry
		id       uint16
		name     string
		tag      int
		combined bool
	}{
		{ike.Encryption, 2, "ENCR_DES", 0, false},                     // RFC 2405
		{ike.Encryption, 3, "ENCR_3DES", 0, false},                    // RFC 2451
		{ike.Encryption, 7, "ENCR_BLOWFISH", 0, false},                // RFC 2451
		{ike.Encryption, 11, "ENCR_NULL", 0, false},                   // RFC 2410
		{ike.Encryption, 12, "ENCR_AES_CBC", 0, false},                // RFC 3602
		{ike.Encryption, 13, "ENCR_AES_CTR", 0, false},                // RFC 3686
		{ike.Encryption, 14, "ENCR_AES_CCM_8", 64, true},              // RFC 4309 section 7
		{ike.Encryption, 15, "ENCR_AES_CCM_12", 96, true},             // RFC 4309 section 7
		{ike.Encryption, 16, "ENCR_AES_CCM_16", 128, true},            // RFC 4309 section 7
		{ike.Encryption, 18, "ENCR_AES_GCM_8", 64, true},              // RFC 4106 section 8.1
		{ike.Encryption, 19, "ENCR_AES_GCM_12", 96, true},             // RFC 4106 section 8.1
		{ike.Encryption, 20, "ENCR_AES_GCM_16", 128, true},            // RFC 4106 section 8.1
		{ike.Encryption, 21, "ENCR_NULL_AUTH_AES_GMAC", 128, true},    // RFC 4543
		{ike.Encryption, 23, "ENCR_CAMELLIA_CBC", 0, false},           // RFC 5529
		{ike.Encryption, 28, "ENCR_CHACHA20_POLY1305", 128, true},     // RFC 7634
		{ike.Encryption, 30, "ENCR_AES_GCM_16_IIV", 128, true},        // RFC 8750
		{ike.Encryption, 31, "ENCR_CHACHA20_POLY1305_IIV", 128, true}, // RFC 8750

		{ike.PRF, 1, "PRF_HMAC_MD5", 128, false},
		{ike.PRF, 2, "PRF_HMAC_SHA1", 160, false},
		{ike.PRF, 4, "PRF_AES128_XCBC", 128, false}, // RFC 4434
		{ike.PRF, 5, "PRF_HMAC_SHA2_256", 256, false},
		{ike.PRF, 6, "PRF_HMAC_SHA2_384", 384, false},
		{ike.PRF, 7, "PRF_HMAC_SHA2_512", 512, false},
		{ike.PRF, 8, "PRF_AES128_CMAC", 128, false}, // RFC 4615

		{ike.Integrity, 0, "NONE", 0, false},
		{ike.Integrity, 1, "AUTH_HMAC_MD5_96", 96, false},         // RFC 2403
		{ike.Integrity, 2, "AUTH_HMAC_SHA1_96", 96, false},        // RFC 2404
		{ike.Integrity, 5, "AUTH_AES_XCBC_96", 96, false},         // RFC 3566
		{ike.Integrity, 6, "AUTH_HMAC_MD5_128", 128, false},       // RFC 4595
		{ike.Integrity, 7, "AUTH_HMAC_SHA1_160", 160, false},      // RFC 4595
		{ike.Integrity, 8, "AUTH_AES_CMAC_96", 96, false},         // RFC 4494
		{ike.Integrity, 9, "AUTH_AES_128_GMAC", 128, false},       // RFC 4543
		{ike.Integrity, 10, "AUTH_AES_192_GMAC", 128, false},      // RFC 4543
		{ike.Integrity, 11, "AUTH_AES_256_GMAC", 128, false},      // RFC 4543
		{ike.Integrity, 12, "AUTH_HMAC_SHA2_256_128", 128, false}, // RFC 4868 section 2.6
		{ike.Integrity, 13, "AUTH_HMAC_SHA2_384_192", 192, false}, // RFC 4868 section 2.6
		{ike.Integrity, 14, "AUTH_HMAC_SHA2_512_256", 256, false}, // RFC 4868 section 2.6
	} {
		a := ike.ByID(c.registry, c.id)
		require.NotNil(t, a, "%s %d", c.registry, c.id)
		assert.Equal(t, c.name, a.Name)
		assert.Equal(t, c.combined, a.Combined, c.name)
		assert.Equal(t, c.tag, a.Tag, c.name)
		assert.Same(t, a, ike.ByName(c.registry, c.name))
	}
}

// TestGroups holds the key exchanges against RFC 2409, 3526, 5114, 5903, 6954, 8031 and SP 800-57 part 1 table 2.
func TestGroups(t *testing.T) {
	for _, c := range []struct {
		id      uint16
		label   string
		bits    int // of security, as SP 800-57 has it for the size; 0 where it names none
		quantum bool
	}{
		{1, "group 1 (MODP 768)", 0, false}, {2, "group 2 (MODP 1024)", 80, false}, {5, "group 5 (MODP 1536)", 0, false},
		{14, "group 14 (MODP 2048)", 112, false}, {15, "group 15 (MODP 3072)", 128, false}, {16, "group 16 (MODP 4096)", 0, false},
		{17, "group 17 (MODP 6144)", 0, false}, {18, "group 18 (MODP 8192)", 0, false},
		{19, "group 19 (NIST P-256)", 128, false}, {20, "group 20 (NIST P-384)", 192, false}, {21, "group 21 (NIST P-521)", 256, false},
		{25, "group 25 (NIST P-192)", 0, false}, {26, "group 26 (NIST P-224)", 112, false},
		{28, "group 28 (Brainpool P256r1)", 128, false}, {29, "group 29 (Brainpool P384r1)", 192, false},
		{30, "group 30 (Brainpool P512r1)", 256, false},
		{31, "group 31 (Curve25519)", 128, false}, {32, "group 32 (Curve448)", 0, false},
	} {
		g := ike.Pick(ike.KeyExchange, c.id, 0)
		assert.Equal(t, c.label, g.Label())
		assert.Equal(t, c.quantum, g.Resists(), c.label)
		if c.bits > 0 {
			assert.Equal(t, c.bits, g.Strength(), c.label)
		} else {
			assert.Positive(t, g.Strength(), c.label)
		}
	}
	for id := uint16(35); id <= 37; id++ {
		assert.True(t, ike.Pick(ike.KeyExchange, id, 0).Resists(), "ML-KEM, %d", id)
	}
	order := []uint16{1, 2, 5, 14, 15, 16, 17, 18}
	for i := 1; i < len(order); i++ {
		assert.Greater(
			t,
			ike.Pick(ike.KeyExchange, order[i], 0).Strength(),
			ike.Pick(ike.KeyExchange, order[i-1], 0).Strength(),
			"a longer modulus is stronger",
		)
	}
}

// TestVersionOneMeansVersionTwo holds the registries of IKEv1 (RFC 2407, RFC 2409) against those of IKEv2.
func TestVersionOneMeansVersionTwo(t *testing.T) {
	for _, c := range []struct {
		registry ike.Registry
		id       uint16
		same     string
	}{
		{ike.V1Encryption, 1, "ENCR_DES"}, {ike.V1Encryption, 5, "ENCR_3DES"}, {ike.V1Encryption, 7, "ENCR_AES_CBC"},
		{ike.V1Encryption, 8, "ENCR_CAMELLIA_CBC"},
		{ike.V1Hash, 1, "PRF_HMAC_MD5"}, {ike.V1Hash, 2, "PRF_HMAC_SHA1"}, {ike.V1Hash, 4, "PRF_HMAC_SHA2_256"},
		{ike.V1Hash, 5, "PRF_HMAC_SHA2_384"}, {ike.V1Hash, 6, "PRF_HMAC_SHA2_512"},
		{ike.V1ESP, 2, "ENCR_DES"}, {ike.V1ESP, 3, "ENCR_3DES"}, {ike.V1ESP, 11, "ENCR_NULL"}, {ike.V1ESP, 12, "ENCR_AES_CBC"},
		{ike.V1ESP, 13, "ENCR_AES_CTR"}, {ike.V1ESP, 20, "ENCR_AES_GCM_16"},
		{ike.V1Integrity, 1, "AUTH_HMAC_MD5_96"}, {ike.V1Integrity, 2, "AUTH_HMAC_SHA1_96"},
		{ike.V1Integrity, 5, "AUTH_HMAC_SHA2_256_128"}, {ike.V1Integrity, 6, "AUTH_HMAC_SHA2_384_192"},
		{ike.V1Integrity, 7, "AUTH_HMAC_SHA2_512_256"},
		{ike.V1AH, 2, "AUTH_HMAC_MD5_96"}, {ike.V1AH, 3, "AUTH_HMAC_SHA1_96"}, {ike.V1AH, 5, "AUTH_HMAC_SHA2_256_128"},
	} {
		a := ike.ByID(c.registry, c.id)
		require.NotNil(t, a, "%s %d", c.registry, c.id)
		require.NotNil(t, a.Equivalent(), "%s", a.Name)
		assert.Equal(t, c.same, a.Equivalent().Name, "%s %d", c.registry, c.id)
	}
	for id := uint16(14); id <= 30; id++ {
		a := ike.ByID(ike.V1Group, id)
		if a == nil || a.Equivalent() == nil {
			continue
		}
		assert.Equal(t, id, a.Equivalent().ID, "groups kept their numbers")
	}
}

func TestWhatIsNotRegistered(t *testing.T) {
	assert.Nil(t, ike.ByName(ike.Encryption, "ENCR_ROT13"))
	unknown := ike.Pick(ike.Encryption, 999, 0)
	assert.False(t, unknown.Known())
	assert.NotEmpty(t, unknown.String(), "what is not known still has a name for people")
	assert.False(t, ike.Choices{unknown}.Has(ike.Pick(ike.Encryption, 12, 128)))
}

func TestIdentitiesAccept(t *testing.T) {
	for _, c := range []struct {
		expected, shown ike.Identity
		ok              bool
	}{
		{ike.FQDN("a.example"), ike.FQDN("a.example"), true},
		{ike.FQDN("a.example"), ike.FQDN("A.EXAMPLE"), true},
		{ike.FQDN("a.example"), ike.FQDN("b.example"), false},
		{ike.FQDN("*.example"), ike.FQDN("b.example"), true},
		{ike.FQDN("a.example"), ike.DN("CN=a.example"), false},
		{ike.DN("CN=a, O=Lights"), ike.DN("CN=a, O=Lights"), true},
		{ike.DN("CN=*, O=Lights"), ike.DN("CN=b, O=Lights"), true},
		{ike.DN("CN=a, O=Lights"), ike.DN("CN=a, O=Other"), false},
		{ike.DN("emailAddress=a@x.example, O=Lights"), ike.DN("E=A@x.example,O=lights"), true},
		{ike.DN(`CN=a, O="Lights, Old"`), ike.DN(`CN=a, O=Lights\, Old`), true},
		{ike.DN(`CN=a, O=*`), ike.DN(`CN=a, O=Lights\, Old`), true},
		{ike.DN(`CN=a, O=Lights\, Old`), ike.DN(`CN=a, O=Lights, OU=Old`), false},
	} {
		assert.Equal(t, c.ok, c.expected.Accepts(c.shown), "%s by %s", c.shown, c.expected)
	}
	assert.True(t, ike.FQDN("*").Wild() || ike.FQDN("*.example").Wild())
}

func TestBirthdayBytes(t *testing.T) {
	small, big := ike.BirthdayBytes(64), ike.BirthdayBytes(128)
	assert.Greater(t, big, small*1e9)
	assert.Less(
		t,
		small,
		64.0*(1<<30),
		"a cipher of 64-bit blocks is not for more than some gigabytes (RFC 7296 section 2.8, CVE-2016-2183)",
	)
}
