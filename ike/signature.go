package ike

import "strings"

// Signatures are ways to sign what authenticates an IKE SA, as a set. The empty set says nothing: any of them.
type Signatures uint16

// The ways. A digital signature (RFC 7427, method 14) names its algorithm and hash; the methods before it are of one algorithm each.
const (
	RSASHA1     Signatures = 1 << iota // RSASSA-PKCS1-v1_5 with SHA-1: method 1 (RFC 7296 section 3.8), or a digital signature
	RSA256                             // digital signature: RSASSA-PKCS1-v1_5 with SHA2-256 (RFC 7427 appendix A)
	RSA384                             // with SHA2-384
	RSA512                             // with SHA2-512
	PSS256                             // digital signature: RSASSA-PSS with SHA2-256 (RFC 7427 appendix A)
	PSS384                             // with SHA2-384
	PSS512                             // with SHA2-512
	ECDSA256                           // digital signature: ECDSA with SHA2-256 (RFC 7427 appendix A)
	ECDSA384                           // with SHA2-384
	ECDSA512                           // with SHA2-512
	ECDSAMethod                        // ECDSA by methods 9 to 11, each of one curve and hash (RFC 4754)
	EdDSA                              // digital signature: EdDSA (RFC 8420)
)

// The ways of one algorithm.
const (
	RSAv15 = RSASHA1 | RSA256 | RSA384 | RSA512
	RSAPSS = PSS256 | PSS384 | PSS512
	ECDSA  = ECDSA256 | ECDSA384 | ECDSA512
	Signed = RSAv15 | RSAPSS | ECDSA | ECDSAMethod | EdDSA // all
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

// Or returns the set, or another where it says nothing.
func (s Signatures) Or(other Signatures) Signatures {
	if s == 0 {
		return other
	}
	return s
}

// Hashes returns all ways that have a hash of one in the set; all where the set says nothing.
func (s Signatures) Hashes() Signatures {
	out := s & (EdDSA | ECDSAMethod)
	for _, h := range []Signatures{RSASHA1, RSA256 | PSS256 | ECDSA256, RSA384 | PSS384 | ECDSA384, RSA512 | PSS512 | ECDSA512} {
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
	}{{RSAv15, "RSASSA-PKCS1-v1_5"}, {RSAPSS, "RSASSA-PSS"}, {ECDSA, "ECDSA"}, {ECDSAMethod, "ECDSA of one curve"}, {EdDSA, "EdDSA"}} {
		has := s & of.all
		if has == 0 {
			continue
		}
		name := of.name
		if has != of.all {
			var hashes []string
			for _, h := range []struct {
				with Signatures
				name string
			}{{RSASHA1, "SHA-1"}, {RSA256 | PSS256 | ECDSA256, "SHA2-256"}, {RSA384 | PSS384 | ECDSA384, "SHA2-384"},
				{RSA512 | PSS512 | ECDSA512, "SHA2-512"}} {
				if has&h.with != 0 {
					hashes = append(hashes, h.name)
				}
			}
			name += " with " + strings.Join(hashes, " or ")
		}
		out = append(out, name)
	}
	return strings.Join(out, ", or ")
}
