package certificate

import (
	"crypto/x509"
	"encoding/asn1"
	"strings"
)

// another is a SubjectPublicKeyInfo that crypto/x509 reads: of Ed25519 (RFC 8410 section 4), with a key of nobody.
var another = append([]byte{0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00}, make([]byte, 32)...)

// parse reads a certificate. Of one whose key is on a curve that crypto/x509 does not know it reads all but the key.
func parse(der []byte) (*x509.Certificate, error) {
	c, err := x509.ParseCertificate(der)
	if err == nil || !strings.Contains(err.Error(), "unsupported elliptic curve") {
		return c, err
	}
	var outer, tbs []asn1.RawValue
	if _, bad := asn1.Unmarshal(der, &outer); bad != nil || len(outer) == 0 {
		return nil, err
	}
	if _, bad := asn1.Unmarshal(outer[0].FullBytes, &tbs); bad != nil {
		return nil, err
	}
	at := 5 // serial number, algorithm, issuer, validity, subject, key
	if len(tbs) > 0 && tbs[0].Class == asn1.ClassContextSpecific {
		at++ // the version before them
	}
	if len(tbs) <= at {
		return nil, err
	}
	signed, key := outer[0].FullBytes, tbs[at].FullBytes
	tbs[at] = asn1.RawValue{FullBytes: another}
	outer[0] = sequence(tbs)
	whole, bad := asn1.Marshal(sequence(outer))
	if bad != nil {
		return nil, err
	}
	if c, bad = x509.ParseCertificate(whole); bad != nil {
		return nil, err
	}
	c.Raw, c.RawTBSCertificate, c.RawSubjectPublicKeyInfo = der, signed, key
	c.PublicKey, c.PublicKeyAlgorithm = nil, x509.UnknownPublicKeyAlgorithm
	return c, nil
}

// sequence puts values into one.
func sequence(of []asn1.RawValue) asn1.RawValue {
	out := asn1.RawValue{Tag: asn1.TagSequence, IsCompound: true}
	for _, v := range of {
		b := v.FullBytes
		if len(b) == 0 {
			b, _ = asn1.Marshal(v)
		}
		out.Bytes = append(out.Bytes, b...)
	}
	return out
}
