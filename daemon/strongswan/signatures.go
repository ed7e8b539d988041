package strongswan

import (
	"strconv"
	"strings"

	"toril/ike"
)

// Plain is what the daemon signs with unless it is told otherwise: with a key of RSA never RSASSA-PSS (asked of 5.9.8).
const Plain = ike.RSAv15 | ike.ECDSA | ike.EdDSA

// Classic is what it signs with where its peer knows no hash that it may sign with: the methods that are older than digital signatures
// (asked of 5.9.8).
const Classic = ike.RSASHA1 | ike.ECDSAMethod

// Signatures returns what "auth" allows: "pubkey", "rsa-sha256", "ecdsa-256-sha384", "rsa/pss-sha512". It holds for the certificates up to
// the authority too, unless "ike:" stands in front; without hashes and without a size the type of a key is not looked at (asked of 5.9.8).
// An empty set is any.
func Signatures(auth string) (signs, chain ike.Signatures) {
	auth, alone := strings.CutPrefix(strings.ToLower(auth), "ike:")
	var kinds, hashes ike.Signatures
	sized := false
	for word := range strings.SplitSeq(auth, "-") {
		switch word {
		case "rsa":
			kinds |= ike.RSAv15
		case "rsa/pss":
			kinds |= ike.RSAPSS
		case "ecdsa":
			kinds |= ike.ECDSA | ike.ECDSAMethod
		case "ed25519", "ed448":
			kinds |= ike.EdDSA
		case "pubkey", "any":
			kinds |= ike.Signed
		case "sha1":
			hashes |= ike.RSASHA1
		case "sha256":
			hashes |= ike.RSA256 | ike.PSS256 | ike.ECDSA256 | ike.ECDSAP256
		case "sha384":
			hashes |= ike.RSA384 | ike.PSS384 | ike.ECDSA384 | ike.ECDSAP384
		case "sha512":
			hashes |= ike.RSA512 | ike.PSS512 | ike.ECDSA512 | ike.ECDSAP521
		default:
			_, err := strconv.Atoi(word)
			sized = sized || err == nil
		}
	}
	switch {
	case kinds&^ike.Signed != 0 || kinds == ike.Signed && hashes == 0:
		return 0, 0
	case hashes == 0 && !sized:
		return 0, 0
	case hashes == 0:
		if kinds&(ike.RSAv15|ike.RSAPSS) != 0 {
			kinds |= ike.RSAv15 | ike.RSAPSS
		}
		if alone {
			return kinds, 0
		}
		return kinds, kinds
	case alone:
		return kinds & (hashes | ike.EdDSA), 0
	}
	return kinds & (hashes | ike.EdDSA), kinds & (hashes | ike.EdDSA)
}
