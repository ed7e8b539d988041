// Package publickey reads public keys: those of certificates, and raw ones that stand in a configuration or lie beside it.
package publickey

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"math/big"
	"strings"

	"toril/model"
	"toril/source"
)

// Kind returns the type of a key, "RSA", "ECDSA", "Ed25519", and its length in bits: of the modulus, or of the curve. Info is its
// SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7) in DER. One that is not known is "another kind of key", of 0 bits.
func Kind(key any, info []byte) (kind string, bits int) {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return "RSA", k.N.BitLen()
	case *ecdsa.PublicKey:
		return "ECDSA", k.Curve.Params().BitSize
	case ed25519.PublicKey:
		return "Ed25519", 256
	}
	if kind, bits = ofCurve(info); kind == "" {
		kind = "another kind of key"
	}
	return kind, bits
}

// errNoKey is what is said of a value that is no public key.
var errNoKey = errors.New("it is not a public key")

// FromDER reads a key as a SubjectPublicKeyInfo, or as an RSAPublicKey (RFC 8017 appendix A.1.1).
func FromDER(der []byte, at source.Pos) (*model.PublicKey, error) {
	key, err := x509.ParsePKIXPublicKey(der)
	if k, bad := x509.ParsePKCS1PublicKey(der); err != nil && bad == nil {
		key, err = k, nil
	}
	if err != nil {
		if kind, bits := ofCurve(der); kind != "" {
			return &model.PublicKey{At: at, KeyType: kind, KeyBits: bits, Info: der}, nil
		}
		return nil, errNoKey
	}
	return of(key, at)
}

func of(key any, at source.Pos) (*model.PublicKey, error) {
	info, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return nil, errNoKey
	}
	kind, bits := Kind(key, info)
	return &model.PublicKey{At: at, KeyType: kind, KeyBits: bits, Info: info}, nil
}

// FromText reads a key as configurations write it: in base 64 behind "0s" or behind nothing, or in hexadecimal behind "0x"; as RFC 3110
// section 2 has it, or in DER.
func FromText(text string, at source.Pos) (*model.PublicKey, error) {
	text = strings.ReplaceAll(text, " ", "")
	var data []byte
	var err error
	if digits, ok := strings.CutPrefix(text, "0x"); ok {
		data, err = hex.DecodeString(digits)
	} else {
		data, err = base64.StdEncoding.DecodeString(strings.TrimPrefix(text, "0s"))
	}
	if err != nil || len(data) < 3 {
		return nil, errNoKey
	}
	if k, err := FromDER(data, at); err == nil {
		return k, nil
	}
	length, rest := int(data[0]), data[1:]
	if length == 0 { // two more bytes have it
		length, rest = int(data[1])<<8|int(data[2]), data[3:]
	}
	if length == 0 || length >= len(rest) {
		return nil, errNoKey
	}
	exponent, modulus := new(big.Int).SetBytes(rest[:length]), new(big.Int).SetBytes(rest[length:])
	if exponent.BitLen() > 31 || modulus.BitLen() < 128 {
		return nil, errNoKey
	}
	return of(&rsa.PublicKey{N: modulus, E: int(exponent.Int64())}, at)
}
