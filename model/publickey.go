package model

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"path"
	"slices"

	"toril/source"
)

// PublicKey is a public key that a configuration has, or names, without a certificate (RFC 7670).
type PublicKey struct {
	At      source.Pos
	KeyType string // "RSA", "ECDSA", "Ed25519", ...
	KeyBits int    // of the modulus, or of the curve; 0 where that is not known
	Info    []byte // its SubjectPublicKeyInfo in DER (RFC 5280 section 4.1.2.7)
}

// String says what kind of key it is, and has the beginning of a digest of it: "RSA of 2048 bits, 0123456789abcdef".
func (k *PublicKey) String() string {
	return fmt.Sprintf("%s of %d bits, %.8x", k.KeyType, k.KeyBits, sha256.Sum256(k.Info))
}

// PublicKeysOf returns the public keys that are configured for a party of one of the gateway's connections. All is false where one of them
// was not given, or could not be read, or is named otherwise than by itself or by its file.
func (g *Gateway) PublicKeysOf(p *Party) (keys []*PublicKey, all bool) {
	keys, all = slices.Clone(p.PublicKeys), !p.KeyedElsewhere
	for _, n := range p.KeyFiles {
		found := false
		for _, k := range g.PublicKeys {
			if path.Base(n) == path.Base(k.At.File) {
				keys, found = append(keys, k), true
			}
		}
		all = all && found
	}
	return keys, all
}

// Same reports whether two are one key.
func (k *PublicKey) Same(other *PublicKey) bool { return bytes.Equal(k.Info, other.Info) }

// Of reports whether a certificate is for the key.
func (k *PublicKey) Of(c *Certificate) bool {
	return c.X509 != nil && bytes.Equal(k.Info, c.X509.RawSubjectPublicKeyInfo)
}
