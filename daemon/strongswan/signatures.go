package strongswan

import (
	"strconv"
	"strings"

	"toril/ike"
)

// plain is what the daemon signs with unless it is told otherwise: with a key of RSA never RSASSA-PSS (asked of 5.9.8).
const plain = ike.RSAv15 | ike.ECDSA | ike.EdDSA

// Classic is what it signs with where its peer knows no hash that it may sign with: the methods that are older than digital signatures
// (asked of 5.9.8).
const Classic = ike.RSASHA1 | ike.ECDSAMethod

// kinds are the words of "auth" for types of keys.
var kinds = map[string]ike.Signatures{
	"pubkey": ike.Signed, "rsa": ike.RSAv15, "rsa/pss": ike.RSAPSS, "ecdsa": ike.ECDSA | ike.ECDSAMethod,
	"ed25519": ike.EdDSA, "ed448": ike.EdDSA, "bliss": 0,
}

// hashes are those for hashes.
var hashes = map[string]ike.Signatures{
	"sha1": ike.RSASHA1, "sha256": ike.RSA256.Hashes(), "sha384": ike.RSA384.Hashes(), "sha512": ike.RSA512.Hashes(),
}

// BySignature reports whether "auth" is for signatures: a type of key stands in front, or "ike:" and one.
func BySignature(auth string) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(auth, "ike:"), "-")
	_, ok := kinds[first]
	return ok
}

// Takes returns what "auth" of a peer allows: "pubkey", "rsa-sha256", "ecdsa-256-sha384", "rsa/pss-sha512". It holds for the certificates
// up to the authority too, unless "ike:" stands in front; without hashes and without a size the type of a key is not looked at (asked of
// 5.9.8). An empty set is any.
func Takes(auth string) (takes, chain ike.Signatures) {
	of, with, sized, alone := parts(auth)
	switch {
	case with == 0 && (!sized || of == ike.Signed):
		return 0, 0
	case with == 0:
		takes = ike.ByKeys(of)
	default:
		takes = of & (with | ike.EdDSA)
	}
	if alone {
		return takes, 0
	}
	return takes, takes
}

// Signs returns what the daemon signs with where its own "auth" says so: the hashes that it names, for a type of key rules nothing out.
func Signs(auth string) ike.Signatures {
	if of, with, _, _ := parts(auth); with != 0 {
		return of & (with | ike.EdDSA)
	}
	return plain
}

// parts are the types of keys and the hashes that "auth" names, whether with the size of a key, and whether for the IKE SA alone.
func parts(auth string) (of, with ike.Signatures, sized, alone bool) {
	auth, alone = strings.CutPrefix(strings.ToLower(auth), "ike:")
	for word := range strings.SplitSeq(auth, "-") {
		of, with = of|kinds[word], with|hashes[word]
		_, err := strconv.Atoi(word)
		sized = sized || err == nil
	}
	return of, with, sized, alone
}
