package openiked

import (
	"strings"

	"toril/ike"
)

// First are the signatures with the hash that it takes where its peer knows it (asked of 7.2).
const First = ike.RSA256 | ike.ECDSA256 | ike.ECDSAMethod | ike.EdDSA

// AsksKeys returns the type of public keys that it asks its peer for beside certificates, by the word that its policy has (asked of 7.2).
func AsksKeys(word string) string {
	switch {
	case word == "rsa":
		return "RSA"
	case strings.HasPrefix(word, "ecdsa"):
		return "ECDSA"
	}
	return ""
}

// Signatures returns what the daemon signs with, by the word that its policy has, "" for none, and whether it sends its certificate
// although the peer does not ask for one of its authority. It takes whatever its peer signs with (asked of 7.2).
func Signatures(word string) (signs ike.Signatures, sends bool) {
	const rsa = ike.RSASHA1 | ike.RSA256
	if strings.HasPrefix(word, "ecdsa") {
		return rsa | ike.ECDSAMethod | ike.EdDSA, false
	}
	return rsa | ike.ECDSA | ike.EdDSA, word != "rsa"
}
