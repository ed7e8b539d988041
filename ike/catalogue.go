package ike

// Registry is one of the IANA registries that an Algorithm is in.
type Registry uint8

// The registries. The first twelve are IKEv2's transform types under their own numbers (RFC 7296 section 3.3.2, RFC 9370
// for the additional key exchanges, whose methods are those of KeyExchange); the others are IKEv1's (RFC 2409, RFC 2407).
const (
	Encryption  Registry = 1
	PRF         Registry = 2
	Integrity   Registry = 3
	KeyExchange Registry = 4
	Sequence    Registry = 5 // extended sequence numbers
	Additional1 Registry = 6 // additional key exchange 1; the last is 12
	Additional7 Registry = 12

	AuthMethod   Registry = 20 // IKEv2 authentication method
	V1Encryption Registry = 21
	V1Hash       Registry = 22
	V1Group      Registry = 23
	V1Auth       Registry = 24
	V1ESP        Registry = 25 // ESP transform identifier
	V1AH         Registry = 26 // AH transform identifier
	V1Integrity  Registry = 27 // authentication algorithm attribute of an ESP or AH proposal
)

var registryNames = map[Registry]string{
	Encryption:   "encryption",
	PRF:          "pseudorandom function",
	Integrity:    "integrity",
	KeyExchange:  "key exchange",
	Sequence:     "sequence numbers",
	AuthMethod:   "authentication method",
	V1Encryption: "IKEv1 encryption",
	V1Hash:       "IKEv1 hash",
	V1Group:      "IKEv1 group",
	V1Auth:       "IKEv1 authentication method",
	V1ESP:        "IKEv1 ESP transform",
	V1AH:         "IKEv1 AH transform",
	V1Integrity:  "IKEv1 ESP and AH authentication",
}

// String returns the registry's everyday name.
func (r Registry) String() string {
	if r >= Additional1 && r <= Additional7 {
		return "additional key exchange"
	}
	return registryNames[r]
}

// Algorithm is one value of a registry.
type Algorithm struct {
	Registry Registry
	ID       uint16
	Name     string // as IANA writes it
	Common   string // as people say it
	Keys     []int  // key sizes in bits that may be asked for; nil where there is no choice
	Block    int    // block of a cipher, in bits; 0 for a stream cipher and for all that is not a cipher
	Tag      int    // length in bits of what protects integrity: the ICV of a combined cipher, the truncated hash
	Bits     int    // security in bits against a classical adversary; with Keys: of the largest; 0: none at all
	Quantum  bool   // is thought to withstand a quantum adversary
	Combined bool   // cipher that protects integrity too (AEAD)
	Source   string // document that defines it; the strength of MODP and ECP groups is from NIST SP 800-57
	SameAs   uint16 // IKEv1 registries: the value of the IKEv2 registry that means the same; 0 for none
}

var (
	aesKeys      = []int{128, 192, 256}
	camelliaKeys = []int{128, 192, 256}
	blowfishKeys = []int{40, 56, 64, 96, 128, 160, 192, 256, 448}
	castKeys     = []int{40, 64, 80, 96, 128}
	rc5Keys      = []int{40, 64, 128, 192, 256}
	onlyBig      = []int{256}
)

// Catalogue is every value of the registries, in their order. Strengths: a cipher's is its key's, three-key 3DES's 112
// (SP 800-57); a PRF's that of its hash for this use; an integrity algorithm's the lesser of key and tag; a MODP or ECP
// group's by SP 800-57, interpolated where it names no value for the size. Against a quantum adversary (Grover) a cipher
// or hash counts with 256 bits and above; no discrete-logarithm group does.
var Catalogue = []Algorithm{
	// IKEv2 transform type 1.
	{Encryption, 1, "ENCR_DES_IV64", "DES with a 64-bit IV", nil, 64, 0, 56, false, false, "RFC 1827", 0},
	{Encryption, 2, "ENCR_DES", "DES", nil, 64, 0, 56, false, false, "RFC 2405", 0},
	{Encryption, 3, "ENCR_3DES", "3DES", nil, 64, 0, 112, false, false, "RFC 2451", 0},
	{Encryption, 4, "ENCR_RC5", "RC5", rc5Keys, 64, 0, 128, false, false, "RFC 2451", 0},
	{Encryption, 5, "ENCR_IDEA", "IDEA", nil, 64, 0, 126, false, false, "RFC 2451", 0},
	{Encryption, 6, "ENCR_CAST", "CAST-128", castKeys, 64, 0, 128, false, false, "RFC 2451", 0},
	{Encryption, 7, "ENCR_BLOWFISH", "Blowfish", blowfishKeys, 64, 0, 128, false, false, "RFC 2451", 0},
	{Encryption, 8, "ENCR_3IDEA", "triple IDEA", nil, 64, 0, 126, false, false, "RFC 2451", 0},
	{Encryption, 9, "ENCR_DES_IV32", "DES with a 32-bit IV", nil, 64, 0, 56, false, false, "RFC 7296", 0},
	{Encryption, 11, "ENCR_NULL", "no encryption", nil, 0, 0, 0, false, false, "RFC 2410", 0},
	{Encryption, 12, "ENCR_AES_CBC", "AES-CBC", aesKeys, 128, 0, 256, true, false, "RFC 3602", 0},
	{Encryption, 13, "ENCR_AES_CTR", "AES-CTR", aesKeys, 0, 0, 256, true, false, "RFC 3686, RFC 5930", 0},
	{Encryption, 14, "ENCR_AES_CCM_8", "AES-CCM with an 8-byte ICV", aesKeys, 0, 64, 256, true, true, "RFC 4309", 0},
	{Encryption, 15, "ENCR_AES_CCM_12", "AES-CCM with a 12-byte ICV", aesKeys, 0, 96, 256, true, true, "RFC 4309", 0},
	{Encryption, 16, "ENCR_AES_CCM_16", "AES-CCM with a 16-byte ICV", aesKeys, 0, 128, 256, true, true, "RFC 4309", 0},
	{Encryption, 18, "ENCR_AES_GCM_8", "AES-GCM with an 8-byte ICV", aesKeys, 0, 64, 256, true, true, "RFC 4106, RFC 5282", 0},
	{Encryption, 19, "ENCR_AES_GCM_12", "AES-GCM with a 12-byte ICV", aesKeys, 0, 96, 256, true, true, "RFC 4106, RFC 5282", 0},
	{Encryption, 20, "ENCR_AES_GCM_16", "AES-GCM with a 16-byte ICV", aesKeys, 0, 128, 256, true, true, "RFC 4106, RFC 5282", 0},
	{Encryption, 21, "ENCR_NULL_AUTH_AES_GMAC", "AES-GMAC without encryption", aesKeys, 0, 128, 0, false, true, "RFC 4543", 0},
	{Encryption, 23, "ENCR_CAMELLIA_CBC", "Camellia-CBC", camelliaKeys, 128, 0, 256, true, false, "RFC 5529", 0},
	{Encryption, 24, "ENCR_CAMELLIA_CTR", "Camellia-CTR", camelliaKeys, 0, 0, 256, true, false, "RFC 5529", 0},
	{Encryption, 25, "ENCR_CAMELLIA_CCM_8", "Camellia-CCM with an 8-byte ICV", camelliaKeys, 0, 64, 256, true, true, "RFC 5529", 0},
	{Encryption, 26, "ENCR_CAMELLIA_CCM_12", "Camellia-CCM with a 12-byte ICV", camelliaKeys, 0, 96, 256, true, true, "RFC 5529", 0},
	{Encryption, 27, "ENCR_CAMELLIA_CCM_16", "Camellia-CCM with a 16-byte ICV", camelliaKeys, 0, 128, 256, true, true, "RFC 5529", 0},
	{Encryption, 28, "ENCR_CHACHA20_POLY1305", "ChaCha20-Poly1305", nil, 0, 128, 256, true, true, "RFC 7634", 0},
	{Encryption, 29, "ENCR_AES_CCM_8_IIV", "AES-CCM with an 8-byte ICV and implicit IV", aesKeys, 0, 64, 256, true, true, "RFC 8750", 0},
	{Encryption, 30, "ENCR_AES_GCM_16_IIV", "AES-GCM with a 16-byte ICV and implicit IV", aesKeys, 0, 128, 256, true, true, "RFC 8750", 0},
	{Encryption, 31, "ENCR_CHACHA20_POLY1305_IIV", "ChaCha20-Poly1305 with implicit IV", nil, 0, 128, 256, true, true, "RFC 8750", 0},
	{Encryption, 32, "ENCR_KUZNYECHIK_MGM_KTREE", "Kuznyechik-MGM", onlyBig, 0, 96, 256, true, true, "RFC 9227", 0},
	{Encryption, 33, "ENCR_MAGMA_MGM_KTREE", "Magma-MGM", onlyBig, 0, 64, 256, true, true, "RFC 9227", 0},
	{Encryption, 34, "ENCR_KUZNYECHIK_MGM_MAC_KTREE", "Kuznyechik-MGM without encryption", onlyBig, 0, 96, 0, false, true, "RFC 9227", 0},
	{Encryption, 35, "ENCR_MAGMA_MGM_MAC_KTREE", "Magma-MGM without encryption", onlyBig, 0, 64, 0, false, true, "RFC 9227", 0},

	// IKEv2 transform type 2.
	{PRF, 1, "PRF_HMAC_MD5", "HMAC-MD5", nil, 0, 128, 128, false, false, "RFC 2104", 0},
	{PRF, 2, "PRF_HMAC_SHA1", "HMAC-SHA1", nil, 0, 160, 160, false, false, "RFC 2104", 0},
	{PRF, 3, "PRF_HMAC_TIGER", "HMAC-Tiger", nil, 0, 192, 192, false, false, "RFC 2104", 0},
	{PRF, 4, "PRF_AES128_XCBC", "AES-XCBC", nil, 0, 128, 128, false, false, "RFC 4434", 0},
	{PRF, 5, "PRF_HMAC_SHA2_256", "HMAC-SHA2-256", nil, 0, 256, 256, true, false, "RFC 4868", 0},
	{PRF, 6, "PRF_HMAC_SHA2_384", "HMAC-SHA2-384", nil, 0, 384, 384, true, false, "RFC 4868", 0},
	{PRF, 7, "PRF_HMAC_SHA2_512", "HMAC-SHA2-512", nil, 0, 512, 512, true, false, "RFC 4868", 0},
	{PRF, 8, "PRF_AES128_CMAC", "AES-CMAC", nil, 0, 128, 128, false, false, "RFC 4615", 0},
	{PRF, 9, "PRF_HMAC_STREEBOG_512", "HMAC-Streebog-512", nil, 0, 512, 512, true, false, "RFC 9385", 0},

	// IKEv2 transform type 3.
	{Integrity, 0, "NONE", "no integrity", nil, 0, 0, 0, false, false, "RFC 7296", 0},
	{Integrity, 1, "AUTH_HMAC_MD5_96", "HMAC-MD5 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2403", 0},
	{Integrity, 2, "AUTH_HMAC_SHA1_96", "HMAC-SHA1 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2404", 0},
	{Integrity, 3, "AUTH_DES_MAC", "DES-MAC", nil, 0, 64, 56, false, false, "RFC 7296", 0},
	{Integrity, 4, "AUTH_KPDK_MD5", "keyed MD5", nil, 0, 128, 64, false, false, "RFC 7296", 0},
	{Integrity, 5, "AUTH_AES_XCBC_96", "AES-XCBC cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 3566", 0},
	{Integrity, 6, "AUTH_HMAC_MD5_128", "HMAC-MD5", nil, 0, 128, 128, false, false, "RFC 4595", 0},
	{Integrity, 7, "AUTH_HMAC_SHA1_160", "HMAC-SHA1", nil, 0, 160, 160, false, false, "RFC 4595", 0},
	{Integrity, 8, "AUTH_AES_CMAC_96", "AES-CMAC cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 4494", 0},
	{Integrity, 9, "AUTH_AES_128_GMAC", "AES-128-GMAC", nil, 0, 128, 128, false, false, "RFC 4543", 0},
	{Integrity, 10, "AUTH_AES_192_GMAC", "AES-192-GMAC", nil, 0, 128, 128, false, false, "RFC 4543", 0},
	{Integrity, 11, "AUTH_AES_256_GMAC", "AES-256-GMAC", nil, 0, 128, 128, true, false, "RFC 4543", 0},
	{Integrity, 12, "AUTH_HMAC_SHA2_256_128", "HMAC-SHA2-256 cut to 128 bits", nil, 0, 128, 128, true, false, "RFC 4868", 0},
	{Integrity, 13, "AUTH_HMAC_SHA2_384_192", "HMAC-SHA2-384 cut to 192 bits", nil, 0, 192, 192, true, false, "RFC 4868", 0},
	{Integrity, 14, "AUTH_HMAC_SHA2_512_256", "HMAC-SHA2-512 cut to 256 bits", nil, 0, 256, 256, true, false, "RFC 4868", 0},

	// IKEv2 transform type 4. IANA's own names; "alternate 1024-bit MODP group" is IKEv1's name for number 2.
	{KeyExchange, 0, "NONE", "no key exchange", nil, 0, 0, 0, false, false, "RFC 7296", 0},
	{KeyExchange, 1, "768-bit MODP Group", "MODP 768", nil, 0, 0, 64, false, false, "RFC 7296", 0},
	{KeyExchange, 2, "1024-bit MODP Group", "MODP 1024", nil, 0, 0, 80, false, false, "RFC 7296", 0},
	{KeyExchange, 5, "1536-bit MODP Group", "MODP 1536", nil, 0, 0, 90, false, false, "RFC 3526", 0},
	{KeyExchange, 14, "2048-bit MODP Group", "MODP 2048", nil, 0, 0, 112, false, false, "RFC 3526", 0},
	{KeyExchange, 15, "3072-bit MODP Group", "MODP 3072", nil, 0, 0, 128, false, false, "RFC 3526", 0},
	{KeyExchange, 16, "4096-bit MODP Group", "MODP 4096", nil, 0, 0, 152, false, false, "RFC 3526", 0},
	{KeyExchange, 17, "6144-bit MODP Group", "MODP 6144", nil, 0, 0, 176, false, false, "RFC 3526", 0},
	{KeyExchange, 18, "8192-bit MODP Group", "MODP 8192", nil, 0, 0, 200, false, false, "RFC 3526", 0},
	{KeyExchange, 19, "256-bit random ECP group", "NIST P-256", nil, 0, 0, 128, false, false, "RFC 5903", 0},
	{KeyExchange, 20, "384-bit random ECP group", "NIST P-384", nil, 0, 0, 192, false, false, "RFC 5903", 0},
	{KeyExchange, 21, "521-bit random ECP group", "NIST P-521", nil, 0, 0, 256, false, false, "RFC 5903", 0},
	{
		KeyExchange,
		22,
		"1024-bit MODP Group with 160-bit Prime Order Subgroup",
		"MODP 1024 with a 160-bit subgroup",
		nil,
		0,
		0,
		80,
		false,
		false,
		"RFC 5114",
		0,
	},
	{
		KeyExchange,
		23,
		"2048-bit MODP Group with 224-bit Prime Order Subgroup",
		"MODP 2048 with a 224-bit subgroup",
		nil,
		0,
		0,
		112,
		false,
		false,
		"RFC 5114",
		0,
	},
	{
		KeyExchange,
		24,
		"2048-bit MODP Group with 256-bit Prime Order Subgroup",
		"MODP 2048 with a 256-bit subgroup",
		nil,
		0,
		0,
		112,
		false,
		false,
		"RFC 5114",
		0,
	},
	{KeyExchange, 25, "192-bit Random ECP Group", "NIST P-192", nil, 0, 0, 96, false, false, "RFC 5114", 0},
	{KeyExchange, 26, "224-bit Random ECP Group", "NIST P-224", nil, 0, 0, 112, false, false, "RFC 5114", 0},
	{KeyExchange, 27, "brainpoolP224r1", "Brainpool P224r1", nil, 0, 0, 112, false, false, "RFC 6954", 0},
	{KeyExchange, 28, "brainpoolP256r1", "Brainpool P256r1", nil, 0, 0, 128, false, false, "RFC 6954", 0},
	{KeyExchange, 29, "brainpoolP384r1", "Brainpool P384r1", nil, 0, 0, 192, false, false, "RFC 6954", 0},
	{KeyExchange, 30, "brainpoolP512r1", "Brainpool P512r1", nil, 0, 0, 256, false, false, "RFC 6954", 0},
	{KeyExchange, 31, "Curve25519", "Curve25519", nil, 0, 0, 128, false, false, "RFC 8031", 0},
	{KeyExchange, 32, "Curve448", "Curve448", nil, 0, 0, 224, false, false, "RFC 8031", 0},
	{KeyExchange, 33, "GOST3410_2012_256", "GOST 256", nil, 0, 0, 128, false, false, "RFC 9385", 0},
	{KeyExchange, 34, "GOST3410_2012_512", "GOST 512", nil, 0, 0, 256, false, false, "RFC 9385", 0},
	{KeyExchange, 35, "ml-kem-512", "ML-KEM-512", nil, 0, 0, 128, true, false, "FIPS 203", 0},
	{KeyExchange, 36, "ml-kem-768", "ML-KEM-768", nil, 0, 0, 192, true, false, "FIPS 203", 0},
	{KeyExchange, 37, "ml-kem-1024", "ML-KEM-1024", nil, 0, 0, 256, true, false, "FIPS 203", 0},

	// IKEv2 transform type 5.
	{Sequence, 0, "32-bit Sequential Numbers", "no ESN", nil, 0, 0, 0, false, false, "RFC 7296", 0},
	{Sequence, 1, "Partially Transmitted 64-bit Sequential Numbers", "ESN", nil, 0, 0, 0, false, false, "RFC 7296", 0},
	{Sequence, 2, "32-bit Unspecified Numbers", "unspecified numbers", nil, 0, 0, 0, false, false, "RFC 9827", 0},

	// IKEv2 authentication methods.
	{AuthMethod, 1, "RSA Digital Signature", "RSA signature", nil, 0, 0, 0, false, false, "RFC 7296", 0},
	{AuthMethod, 2, "Shared Key Message Integrity Code", "pre-shared key", nil, 0, 0, 0, true, false, "RFC 7296", 0},
	{AuthMethod, 3, "DSS Digital Signature", "DSS signature", nil, 0, 0, 0, false, false, "RFC 7296", 0},
	{AuthMethod, 9, "ECDSA with SHA-256 on the P-256 curve", "ECDSA P-256", nil, 0, 0, 128, false, false, "RFC 4754", 0},
	{AuthMethod, 10, "ECDSA with SHA-384 on the P-384 curve", "ECDSA P-384", nil, 0, 0, 192, false, false, "RFC 4754", 0},
	{AuthMethod, 11, "ECDSA with SHA-512 on the P-521 curve", "ECDSA P-521", nil, 0, 0, 256, false, false, "RFC 4754", 0},
	{AuthMethod, 12, "Generic Secure Password Authentication Method", "secure password", nil, 0, 0, 0, false, false, "RFC 6467", 0},
	{AuthMethod, 13, "NULL Authentication", "no authentication", nil, 0, 0, 0, false, false, "RFC 7619", 0},
	{AuthMethod, 14, "Digital Signature", "digital signature", nil, 0, 0, 0, false, false, "RFC 7427", 0},

	// IKEv1 encryption (RFC 2409 appendix A).
	{V1Encryption, 1, "DES-CBC", "DES", nil, 64, 0, 56, false, false, "RFC 2405", 2},
	{V1Encryption, 2, "IDEA-CBC", "IDEA", nil, 64, 0, 126, false, false, "RFC 2409", 5},
	{V1Encryption, 3, "Blowfish-CBC", "Blowfish", blowfishKeys, 64, 0, 128, false, false, "RFC 2409", 7},
	{V1Encryption, 4, "RC5-R16-B64-CBC", "RC5", rc5Keys, 64, 0, 128, false, false, "RFC 2409", 4},
	{V1Encryption, 5, "3DES-CBC", "3DES", nil, 64, 0, 112, false, false, "RFC 2409", 3},
	{V1Encryption, 6, "CAST-CBC", "CAST-128", castKeys, 64, 0, 128, false, false, "RFC 2409", 6},
	{V1Encryption, 7, "AES-CBC", "AES-CBC", aesKeys, 128, 0, 256, true, false, "RFC 3602", 12},
	{V1Encryption, 8, "CAMELLIA-CBC", "Camellia-CBC", camelliaKeys, 128, 0, 256, true, false, "RFC 4312", 23},

	// IKEv1 hash. The hash is the PRF's, as HMAC, and that of the message integrity: SameAs is the PRF.
	{V1Hash, 1, "MD5", "MD5", nil, 0, 128, 128, false, false, "RFC 1321", 1},
	{V1Hash, 2, "SHA", "SHA1", nil, 0, 160, 160, false, false, "FIPS 180", 2},
	{V1Hash, 3, "Tiger", "Tiger", nil, 0, 192, 192, false, false, "RFC 2409", 3},
	{V1Hash, 4, "SHA2-256", "SHA2-256", nil, 0, 256, 256, true, false, "FIPS 180", 5},
	{V1Hash, 5, "SHA2-384", "SHA2-384", nil, 0, 384, 384, true, false, "FIPS 180", 6},
	{V1Hash, 6, "SHA2-512", "SHA2-512", nil, 0, 512, 512, true, false, "FIPS 180", 7},

	// IKEv1 groups. Numbers above 5 that IKEv2 also knows mean the same group there.
	{V1Group, 1, "default 768-bit MODP group", "MODP 768", nil, 0, 0, 64, false, false, "RFC 2409", 1},
	{V1Group, 2, "alternate 1024-bit MODP group", "MODP 1024", nil, 0, 0, 80, false, false, "RFC 2409", 2},
	{V1Group, 3, "EC2N group on GP[2^155]", "EC2N 155", nil, 0, 0, 76, false, false, "RFC 2409", 0},
	{V1Group, 4, "EC2N group on GP[2^185]", "EC2N 185", nil, 0, 0, 92, false, false, "RFC 2409", 0},
	{V1Group, 5, "1536-bit MODP group", "MODP 1536", nil, 0, 0, 90, false, false, "RFC 3526", 5},
	{V1Group, 14, "2048-bit MODP group", "MODP 2048", nil, 0, 0, 112, false, false, "RFC 3526", 14},
	{V1Group, 15, "3072-bit MODP group", "MODP 3072", nil, 0, 0, 128, false, false, "RFC 3526", 15},
	{V1Group, 16, "4096-bit MODP group", "MODP 4096", nil, 0, 0, 152, false, false, "RFC 3526", 16},
	{V1Group, 17, "6144-bit MODP group", "MODP 6144", nil, 0, 0, 176, false, false, "RFC 3526", 17},
	{V1Group, 18, "8192-bit MODP group", "MODP 8192", nil, 0, 0, 200, false, false, "RFC 3526", 18},
	{V1Group, 19, "256-bit random ECP group", "NIST P-256", nil, 0, 0, 128, false, false, "RFC 5903", 19},
	{V1Group, 20, "384-bit random ECP group", "NIST P-384", nil, 0, 0, 192, false, false, "RFC 5903", 20},
	{V1Group, 21, "521-bit random ECP group", "NIST P-521", nil, 0, 0, 256, false, false, "RFC 5903", 21},
	{
		V1Group,
		22,
		"1024-bit MODP Group with 160-bit Prime Order Subgroup",
		"MODP 1024 with a 160-bit subgroup",
		nil,
		0,
		0,
		80,
		false,
		false,
		"RFC 5114",
		22,
	},
	{
		V1Group,
		23,
		"2048-bit MODP Group with 224-bit Prime Order Subgroup",
		"MODP 2048 with a 224-bit subgroup",
		nil,
		0,
		0,
		112,
		false,
		false,
		"RFC 5114",
		23,
	},
	{
		V1Group,
		24,
		"2048-bit MODP Group with 256-bit Prime Order Subgroup",
		"MODP 2048 with a 256-bit subgroup",
		nil,
		0,
		0,
		112,
		false,
		false,
		"RFC 5114",
		24,
	},
	{V1Group, 25, "192-bit Random ECP Group", "NIST P-192", nil, 0, 0, 96, false, false, "RFC 5114", 25},
	{V1Group, 26, "224-bit Random ECP Group", "NIST P-224", nil, 0, 0, 112, false, false, "RFC 5114", 26},
	{V1Group, 27, "224-bit Brainpool ECP group", "Brainpool P224r1", nil, 0, 0, 112, false, false, "RFC 6932", 27},
	{V1Group, 28, "256-bit Brainpool ECP group", "Brainpool P256r1", nil, 0, 0, 128, false, false, "RFC 6932", 28},
	{V1Group, 29, "384-bit Brainpool ECP group", "Brainpool P384r1", nil, 0, 0, 192, false, false, "RFC 6932", 29},
	{V1Group, 30, "512-bit Brainpool ECP group", "Brainpool P512r1", nil, 0, 0, 256, false, false, "RFC 6932", 30},

	// IKEv1 authentication methods.
	{V1Auth, 1, "pre-shared key", "pre-shared key", nil, 0, 0, 0, true, false, "RFC 2409", 2},
	{V1Auth, 2, "DSS signatures", "DSS signature", nil, 0, 0, 0, false, false, "RFC 2409", 3},
	{V1Auth, 3, "RSA signatures", "RSA signature", nil, 0, 0, 0, false, false, "RFC 2409", 1},
	{V1Auth, 4, "Encryption with RSA", "RSA encryption", nil, 0, 0, 0, false, false, "RFC 2409", 0},
	{V1Auth, 5, "Revised encryption with RSA", "revised RSA encryption", nil, 0, 0, 0, false, false, "RFC 2409", 0},
	{V1Auth, 9, "ECDSA with SHA-256 on the P-256 curve", "ECDSA P-256", nil, 0, 0, 128, false, false, "RFC 4754", 9},
	{V1Auth, 10, "ECDSA with SHA-384 on the P-384 curve", "ECDSA P-384", nil, 0, 0, 192, false, false, "RFC 4754", 10},
	{V1Auth, 11, "ECDSA with SHA-512 on the P-521 curve", "ECDSA P-521", nil, 0, 0, 256, false, false, "RFC 4754", 11},

	// IKEv1 ESP transforms (RFC 2407 section 4.4.4 and later documents).
	{V1ESP, 1, "ESP_DES_IV64", "DES with a 64-bit IV", nil, 64, 0, 56, false, false, "RFC 2407", 1},
	{V1ESP, 2, "ESP_DES", "DES", nil, 64, 0, 56, false, false, "RFC 2407", 2},
	{V1ESP, 3, "ESP_3DES", "3DES", nil, 64, 0, 112, false, false, "RFC 2407", 3},
	{V1ESP, 4, "ESP_RC5", "RC5", rc5Keys, 64, 0, 128, false, false, "RFC 2407", 4},
	{V1ESP, 5, "ESP_IDEA", "IDEA", nil, 64, 0, 126, false, false, "RFC 2407", 5},
	{V1ESP, 6, "ESP_CAST", "CAST-128", castKeys, 64, 0, 128, false, false, "RFC 2407", 6},
	{V1ESP, 7, "ESP_BLOWFISH", "Blowfish", blowfishKeys, 64, 0, 128, false, false, "RFC 2407", 7},
	{V1ESP, 8, "ESP_3IDEA", "triple IDEA", nil, 64, 0, 126, false, false, "RFC 2407", 8},
	{V1ESP, 9, "ESP_DES_IV32", "DES with a 32-bit IV", nil, 64, 0, 56, false, false, "RFC 2407", 9},
	{V1ESP, 10, "ESP_RC4", "RC4", nil, 0, 0, 40, false, false, "RFC 2407", 0},
	{V1ESP, 11, "ESP_NULL", "no encryption", nil, 0, 0, 0, false, false, "RFC 2407", 11},
	{V1ESP, 12, "ESP_AES-CBC", "AES-CBC", aesKeys, 128, 0, 256, true, false, "RFC 3602", 12},
	{V1ESP, 13, "ESP_AES-CTR", "AES-CTR", aesKeys, 0, 0, 256, true, false, "RFC 3686", 13},
	{V1ESP, 14, "ESP_AES-CCM_8", "AES-CCM with an 8-byte ICV", aesKeys, 0, 64, 256, true, true, "RFC 4309", 14},
	{V1ESP, 15, "ESP_AES-CCM_12", "AES-CCM with a 12-byte ICV", aesKeys, 0, 96, 256, true, true, "RFC 4309", 15},
	{V1ESP, 16, "ESP_AES-CCM_16", "AES-CCM with a 16-byte ICV", aesKeys, 0, 128, 256, true, true, "RFC 4309", 16},
	{V1ESP, 18, "ESP_AES-GCM_8", "AES-GCM with an 8-byte ICV", aesKeys, 0, 64, 256, true, true, "RFC 4106", 18},
	{V1ESP, 19, "ESP_AES-GCM_12", "AES-GCM with a 12-byte ICV", aesKeys, 0, 96, 256, true, true, "RFC 4106", 19},
	{V1ESP, 20, "ESP_AES-GCM_16", "AES-GCM with a 16-byte ICV", aesKeys, 0, 128, 256, true, true, "RFC 4106", 20},
	{V1ESP, 21, "ESP_SEED_CBC", "SEED", nil, 128, 0, 128, false, false, "RFC 4196", 0},
	{V1ESP, 22, "ESP_CAMELLIA", "Camellia-CBC", camelliaKeys, 128, 0, 256, true, false, "RFC 4312", 23},
	{V1ESP, 23, "ESP_NULL_AUTH_AES-GMAC", "AES-GMAC without encryption", aesKeys, 0, 128, 0, false, true, "RFC 4543", 21},

	// IKEv1 AH transforms (RFC 2407 section 4.4.3 and later documents).
	{V1AH, 2, "AH_MD5", "HMAC-MD5 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2403", 1},
	{V1AH, 3, "AH_SHA", "HMAC-SHA1 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2404", 2},
	{V1AH, 4, "AH_DES", "DES-MAC", nil, 0, 64, 56, false, false, "RFC 2407", 3},
	{V1AH, 5, "AH_SHA2-256", "HMAC-SHA2-256 cut to 128 bits", nil, 0, 128, 128, true, false, "RFC 4868", 12},
	{V1AH, 6, "AH_SHA2-384", "HMAC-SHA2-384 cut to 192 bits", nil, 0, 192, 192, true, false, "RFC 4868", 13},
	{V1AH, 7, "AH_SHA2-512", "HMAC-SHA2-512 cut to 256 bits", nil, 0, 256, 256, true, false, "RFC 4868", 14},
	{V1AH, 8, "AH_RIPEMD", "HMAC-RIPEMD-160 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2857", 0},
	{V1AH, 9, "AH_AES-XCBC-MAC", "AES-XCBC cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 3566", 5},
	{V1AH, 10, "AH_RSA", "RSA signature of packets", nil, 0, 0, 0, false, false, "RFC 4359", 0},
	{V1AH, 11, "AH_AES-128-GMAC", "AES-128-GMAC", nil, 0, 128, 128, false, false, "RFC 4543", 9},
	{V1AH, 12, "AH_AES-192-GMAC", "AES-192-GMAC", nil, 0, 128, 128, false, false, "RFC 4543", 10},
	{V1AH, 13, "AH_AES-256-GMAC", "AES-256-GMAC", nil, 0, 128, 128, true, false, "RFC 4543", 11},

	// IKEv1 authentication algorithm of an ESP or AH proposal (RFC 2407 section 4.5 and later documents).
	{V1Integrity, 1, "HMAC-MD5", "HMAC-MD5 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2403", 1},
	{V1Integrity, 2, "HMAC-SHA", "HMAC-SHA1 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2404", 2},
	{V1Integrity, 3, "DES-MAC", "DES-MAC", nil, 0, 64, 56, false, false, "RFC 2407", 3},
	{V1Integrity, 4, "KPDK", "keyed MD5", nil, 0, 128, 64, false, false, "RFC 2407", 4},
	{V1Integrity, 5, "HMAC-SHA2-256", "HMAC-SHA2-256 cut to 128 bits", nil, 0, 128, 128, true, false, "RFC 4868", 12},
	{V1Integrity, 6, "HMAC-SHA2-384", "HMAC-SHA2-384 cut to 192 bits", nil, 0, 192, 192, true, false, "RFC 4868", 13},
	{V1Integrity, 7, "HMAC-SHA2-512", "HMAC-SHA2-512 cut to 256 bits", nil, 0, 256, 256, true, false, "RFC 4868", 14},
	{V1Integrity, 8, "HMAC-RIPEMD", "HMAC-RIPEMD-160 cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 2857", 0},
	{V1Integrity, 9, "AES-XCBC-MAC", "AES-XCBC cut to 96 bits", nil, 0, 96, 96, false, false, "RFC 3566", 5},
	{V1Integrity, 10, "SIG-RSA", "RSA signature of packets", nil, 0, 0, 0, false, false, "RFC 4359", 0},
	{V1Integrity, 11, "AES-128-GMAC", "AES-128-GMAC", nil, 0, 128, 128, false, false, "RFC 4543", 9},
	{V1Integrity, 12, "AES-192-GMAC", "AES-192-GMAC", nil, 0, 128, 128, false, false, "RFC 4543", 10},
	{V1Integrity, 13, "AES-256-GMAC", "AES-256-GMAC", nil, 0, 128, 128, true, false, "RFC 4543", 11},

	// Not IANA's, but offered by daemons, under the numbers that strongSwan gives them in the private range.
	{Encryption, 1026, "SERPENT_CBC", "Serpent", aesKeys, 128, 0, 256, true, false, "private use", 0},
	{Encryption, 1027, "TWOFISH_CBC", "Twofish", aesKeys, 128, 0, 256, true, false, "private use", 0},
	{Integrity, 1024, "AUTH_HMAC_SHA2_256_96", "HMAC-SHA2-256 cut to 96 bits", nil, 0, 96, 96, true, false, "private use", 0},
	{KeyExchange, 1030, "NTRU_112", "NTRU 112", nil, 0, 0, 112, true, false, "private use", 0},
	{KeyExchange, 1031, "NTRU_128", "NTRU 128", nil, 0, 0, 128, true, false, "private use", 0},
	{KeyExchange, 1032, "NTRU_192", "NTRU 192", nil, 0, 0, 192, true, false, "private use", 0},
	{KeyExchange, 1033, "NTRU_256", "NTRU 256", nil, 0, 0, 256, true, false, "private use", 0},
	{KeyExchange, 1040, "NEWHOPE_128", "NewHope 128", nil, 0, 0, 128, true, false, "private use", 0},
}
