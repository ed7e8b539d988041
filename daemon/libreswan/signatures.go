package libreswan

import (
	"strings"

	"toril/daemon"
	"toril/ike"
)

// Signatures returns what "authby" allows: what the daemon signs with, and what it takes of its peer. A version that is known to be before
// 5.0 signs with RSA wherever that is allowed, whatever its key is (asked of 4.10); of others, "" among them, that is not known.
func Signatures(authby, version string) (signs, takes ike.Signatures) {
	for word := range strings.SplitSeq(strings.ToLower(authby), ",") {
		switch strings.TrimSpace(word) {
		case "rsasig", "rsa":
			takes |= ike.RSAv15 | ike.RSAPSS
		case "rsa-sha1":
			takes |= ike.RSASHA1
		case "rsa-sha2":
			takes |= ike.RSAPSS
		case "rsa-sha2_256":
			takes |= ike.PSS256
		case "rsa-sha2_384":
			takes |= ike.PSS384
		case "rsa-sha2_512":
			takes |= ike.PSS512
		case "ecdsa", "ecdsa-sha2":
			takes |= ike.ECDSA
		case "ecdsa-sha2_256":
			takes |= ike.ECDSA256
		case "ecdsa-sha2_384":
			takes |= ike.ECDSA384
		case "ecdsa-sha2_512":
			takes |= ike.ECDSA512
		}
	}
	if takes&ike.RSASHA1 != 0 { // RSASSA-PKCS1-v1_5 is taken, with any hash that is told the peer
		takes |= ike.RSAv15 & takes.Hashes()
	}
	if signs = takes & (ike.RSAv15 | ike.RSAPSS); signs == 0 || version == "" || daemon.Compare(version, "5.0") >= 0 {
		signs = takes
	}
	return signs, takes
}
