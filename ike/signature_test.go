package ike_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/ike"
)

func TestSignatures(t *testing.T) {
	assert.Equal(t, "RSASSA-PKCS1-v1_5, or ECDSA", (ike.RSAv15 | ike.ECDSA).String())
	assert.Equal(t, "RSASSA-PKCS1-v1_5 with SHA-1", ike.RSASHA1.String())
	assert.Equal(t, "RSASSA-PSS with SHA2-256 or SHA2-512, or EdDSA", (ike.PSS256 | ike.PSS512 | ike.EdDSA).String())
	assert.Equal(t, "ECDSA by methods 9 to 11", ike.ECDSAMethod.String())
	assert.Equal(t, ike.Signed, ike.ByKey("something"))
	assert.Equal(t, ike.ByKey("RSA")|ike.ByKey("ECDSA"), ike.ByKeys(ike.PSS256|ike.ECDSAMethod))
	assert.Zero(t, ike.ByKey("RSA")&ike.ByKey("ECDSA"))
	assert.Equal(t, ike.Signed, ike.ByKey("RSA")|ike.ByKey("ECDSA")|ike.ByKey("Ed25519"))
	assert.Equal(t, ike.RSAv15, ike.Signatures(0).Or(ike.RSAv15))
	assert.Equal(t, ike.ECDSA, ike.ECDSA.Or(ike.RSAv15))
	assert.Equal(t, ike.RSA256|ike.PSS256|ike.ECDSA256|ike.ECDSAP256, ike.PSS256.Hashes())
	assert.Equal(t, "ECDSA by method 10", ike.ECDSAP384.String())
	assert.Equal(t, "ECDSA by method 9, or ECDSA by method 11", (ike.ECDSAP256 | ike.ECDSAP521).String())
	assert.Equal(t, ike.Signed, ike.Signatures(0).Hashes())
}
