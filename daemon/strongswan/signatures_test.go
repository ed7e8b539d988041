package strongswan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon/strongswan"
	"toril/ike"
)

func TestSignatures(t *testing.T) {
	const rsa512, pss512 = ike.RSA512, ike.PSS512
	for auth, want := range map[string][2]ike.Signatures{
		"pubkey":                {0, 0},
		"psk":                   {0, 0},
		"any":                   {0, 0},
		"ecdsa":                 {0, 0}, // a type alone asks for nothing
		"rsa-2048":              {ike.RSAv15 | ike.RSAPSS, ike.RSAv15 | ike.RSAPSS},
		"ike:ecdsa-256":         {ike.ECDSA | ike.ECDSAMethod, 0},
		"rsa-sha512":            {rsa512, rsa512},
		"RSA/PSS-SHA512":        {pss512, pss512},
		"ike:rsa/pss-sha512":    {pss512, 0},
		"ecdsa-sha384":          {ike.ECDSA384 | ike.ECDSAP384, ike.ECDSA384 | ike.ECDSAP384},
		"rsa-4096-ecdsa-sha1":   {ike.RSASHA1, ike.RSASHA1},
		"rsa/pss-sha384-sha256": {ike.PSS384 | ike.PSS256, ike.PSS384 | ike.PSS256},
		"ike:pubkey-sha512":     {rsa512 | pss512 | ike.ECDSA512 | ike.ECDSAP521 | ike.EdDSA, 0},
		"ed25519-sha512":        {ike.EdDSA, ike.EdDSA},
	} {
		signs, chain := strongswan.Takes(auth)
		assert.Equal(t, want, [2]ike.Signatures{signs, chain}, "%s: %s; %s", auth, signs, chain)
	}
}

func TestSigns(t *testing.T) {
	const plain = ike.RSAv15 | ike.ECDSA | ike.EdDSA
	for auth, want := range map[string]ike.Signatures{
		"": plain, "pubkey": plain, "rsa": plain, "rsa-4096": plain, "rsa/pss": plain,
		"rsa/pss-sha512": ike.PSS512, "rsa-sha256": ike.RSA256, "ike:ecdsa-sha384": ike.ECDSA384 | ike.ECDSAP384,
	} {
		assert.Equal(t, want, strongswan.Signs(auth), auth)
	}
}

func TestBySignature(t *testing.T) {
	for auth, want := range map[string]bool{
		"pubkey": true, "rsa-2048-sha256": true, "ike:rsa/pss-sha512": true, "ed448": true,
		"psk": false, "ike:psk": false, "any": false, "eap-tls": false, "ike:eap": false, "": false, "sha256": false,
	} {
		assert.Equal(t, want, strongswan.BySignature(auth), auth)
	}
}
