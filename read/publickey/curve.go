package publickey

import "encoding/asn1"

// curves are those that crypto/x509 does not know, and those with keys that it does not read, by their object identifiers (SEC 2, RFC 5639,
// RFC 8410): how many bits they have.
var curves = map[string]struct {
	kind string
	bits int
}{
	"1.2.840.10045.3.1.1":   {"ECDSA", 192}, // P-192
	"1.3.132.0.10":          {"ECDSA", 256}, // secp256k1
	"1.3.36.3.3.2.8.1.1.1":  {"ECDSA", 160}, // brainpool
	"1.3.36.3.3.2.8.1.1.3":  {"ECDSA", 192},
	"1.3.36.3.3.2.8.1.1.5":  {"ECDSA", 224},
	"1.3.36.3.3.2.8.1.1.7":  {"ECDSA", 256},
	"1.3.36.3.3.2.8.1.1.9":  {"ECDSA", 320},
	"1.3.36.3.3.2.8.1.1.11": {"ECDSA", 384},
	"1.3.36.3.3.2.8.1.1.13": {"ECDSA", 512},
	"1.3.101.113":           {"Ed448", 456},
}

// publicKey is a SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7).
type publicKey struct {
	Algorithm struct {
		ID    asn1.ObjectIdentifier
		Curve asn1.RawValue `asn1:"optional"`
	}
	Key asn1.BitString
}

// ofCurve is the type and length of a key that crypto/x509 does not read; zero for one that is not known here either.
func ofCurve(info []byte) (kind string, bits int) {
	var key publicKey
	if _, err := asn1.Unmarshal(info, &key); err != nil {
		return "", 0
	}
	id := key.Algorithm.ID.String()
	var curve asn1.ObjectIdentifier
	if _, err := asn1.Unmarshal(key.Algorithm.Curve.FullBytes, &curve); err == nil {
		id = curve.String()
	}
	c := curves[id]
	return c.kind, c.bits
}
