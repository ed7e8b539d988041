package openiked

import (
	"strings"

	"toril/ike"
)

// Signatures returns what the daemon signs with, by the word that its policy has, "" for none, and whether it sends its certificate
// although the peer does not ask for one of its authority. It takes whatever its peer signs with (asked of 7.2).
func Signatures(word string) (signs ike.Signatures, sends bool) {
	if strings.HasPrefix(word, "ecdsa") {
		return ike.RSAv15 | ike.ECDSAMethod | ike.EdDSA, false
	}
	return ike.RSAv15 | ike.ECDSA | ike.EdDSA, word != "rsa"
}
