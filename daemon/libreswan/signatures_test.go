package libreswan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon/libreswan"
	"toril/ike"
)

func TestSignatures(t *testing.T) {
	const rsa = ike.RSAv15 | ike.RSAPSS
	for authby, want := range map[string][2]ike.Signatures{
		"secret":                     {0, 0},
		"rsasig,ecdsa":               {rsa, rsa | ike.ECDSA}, // RSA wherever it is allowed
		"ecdsa, rsasig":              {rsa, rsa | ike.ECDSA},
		"ecdsa":                      {ike.ECDSA, ike.ECDSA},
		"ecdsa-sha2_384":             {ike.ECDSA384, ike.ECDSA384},
		"rsa-sha1":                   {ike.RSASHA1, ike.RSASHA1},
		"rsa-sha2":                   {ike.RSAPSS, ike.RSAPSS},
		"rsa-sha2_256,rsa-sha2_512":  {ike.PSS256 | ike.PSS512, ike.PSS256 | ike.PSS512},
		"rsa-sha1,rsa-sha2_384":      {ike.RSASHA1 | ike.RSA384 | ike.PSS384, ike.RSASHA1 | ike.RSA384 | ike.PSS384},
		"ecdsa-sha2_256,rsa-sha2":    {ike.RSAPSS, ike.RSAPSS | ike.ECDSA256},
		"ecdsa-sha2,ecdsa-sha2_512":  {ike.ECDSA, ike.ECDSA},
		"ecdsa-sha2_512,rsa-sha2_25": {ike.ECDSA512, ike.ECDSA512},
	} {
		signs, takes := libreswan.Signatures(authby, "4.10")
		assert.Equal(t, want, [2]ike.Signatures{signs, takes}, "%s: %s; %s", authby, signs, takes)
	}
	for _, version := range []string{"", "5.0", "5.2"} {
		signs, takes := libreswan.Signatures("rsasig,ecdsa", version)
		assert.Equal(t, takes, signs, "which it signs with was not asked of %q", version)
	}
}
