package ike

import (
	"fmt"
	"strings"
)

// Signatures are ways to sign what authenticates an IKE SA, as a set. The empty set says nothing: any of them.
type Signatures uint16

// The ways. A digital signature (RFC 7427, method 14) names its algorithm and hash; the methods before it are of one algorithm each.
const (
	RSASHA1   Signatures = 1 << iota // RSASSA-PKCS1-v1_5 with SHA-1: method 1 (RFC 7296 section 3.8), or a digital signature
	RSA256                           // digital signature: RSASSA-PKCS1-v1_5 with SHA2-256 (RFC 7427 appendix A)
	RSA384                           // with SHA2-384
	RSA512                           // with SHA2-512
	PSS256                           // digital signature: RSASSA-PSS with SHA2-256 (RFC 7427 appendix A)
	PSS384                           // with SHA2-384
	PSS512                           // with SHA2-512
	ECDSA256                         // digital signature: ECDSA with SHA2-256 (RFC 7427 appendix A)
	ECDSA384                         // with SHA2-384
	ECDSA512                         // with SHA2-512
	ECDSAP256                        // method 9: ECDSA on the curve P-256 with SHA2-256 (RFC 4754 section 7)
	ECDSAP384                        // method 10: on P-384 with SHA2-384
	ECDSAP521                        // method 11: on P-521 with SHA2-512
	EdDSA                            // digital signature: EdDSA (RFC 8420)
)

// The ways of one algorithm.
const (
	RSAv15      = RSASHA1 | RSA256 | RSA384 | RSA512
	RSAPSS      = PSS256 | PSS384 | PSS512
	ECDSA       = ECDSA256 | ECDSA384 | ECDSA512
	ECDSAMethod = ECDSAP256 | ECDSAP384 | ECDSAP521             // as in IKEv2 before digital signatures
	Signed      = RSAv15 | RSAPSS | ECDSA | ECDSAMethod | EdDSA // all
)

// ByKey returns the ways to sign with a type of key, as a certificate tells it: "RSA", "ECDSA", "Ed25519". Of another type any is returned.
func ByKey(keyType string) Signatures {
	switch keyType {
	case "RSA":
		return RSAv15 | RSAPSS
	case "ECDSA":
		return ECDSA | ECDSAMethod
	case "Ed25519", "Ed448":
		return EdDSA
	}
	return Signed
}

// ByKeys returns all ways to sign with the types of keys that the ways in a set are for.
func ByKeys(s Signatures) (out Signatures) {
	for _, keyType := range []string{"RSA", "ECDSA", "Ed25519"} {
		if all := ByKey(keyType); all&s != 0 {
			out |= all
		}
	}
	return out
}

// Or returns the set, or another where it says nothing.
func (s Signatures) Or(other Signatures) Signatures {
	if s == 0 {
		return other
	}
	return s
}

// hashes are the ways that have each hash.
var hashes = []struct {
	with Signatures
	name string
}{
	{RSASHA1, "SHA-1"}, {RSA256 | PSS256 | ECDSA256 | ECDSAP256, "SHA2-256"}, {RSA384 | PSS384 | ECDSA384 | ECDSAP384, "SHA2-384"},
	{RSA512 | PSS512 | ECDSA512 | ECDSAP521, "SHA2-512"},
}

// Hashes returns all ways that have a hash of one in the set; all where the set says nothing.
func (s Signatures) Hashes() Signatures {
	out := s & EdDSA
	for _, h := range hashes {
		h := h.with
		if s&h != 0 {
			out |= h
		}
	}
	return out.Or(Signed)
}

// String names what is in the set: algorithms, and their hashes where those are not all.
func (s Signatures) String() string {
	var out []string
	for _, of := range []struct {
		all  Signatures
		name string
	}{
		{RSAv15, "RSASSA-PKCS1-v1_5"}, {RSAPSS, "RSASSA-PSS"}, {ECDSA, "ECDSA"}, {ECDSAMethod, "ECDSA by methods 9 to 11"},
		{EdDSA, "EdDSA"},
	} {
		has := s & of.all
		if has == 0 {
			continue
		}
		name := of.name
		switch {
		case has == of.all:
		case of.all == ECDSAMethod:
			for method := 9; has != 0; has, method = has&^(ECDSAP256<<(method-9)), method+1 {
				if has&(ECDSAP256<<(method-9)) != 0 {
					out = append(out, fmt.Sprint("ECDSA by method ", method))
				}
			}
			continue
		default:
			var with []string
			for _, h := range hashes {
				if has&h.with != 0 {
					with = append(with, h.name)
				}
			}
			name += " with " + strings.Join(with, " or ")
		}
		out = append(out, name)
	}
	return strings.Join(out, ", or ")
}
