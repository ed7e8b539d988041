package libreswan

import (
	"strings"

	"toril/daemon"
	"toril/ike"
)

// authby are the words of "authby" that are signatures.
var authby = map[string]ike.Signatures{
	"rsasig": ike.RSAv15 | ike.RSAPSS, "rsa": ike.RSAv15 | ike.RSAPSS, "rsa-sha1": ike.RSASHA1,
	"rsa-sha2": ike.RSAPSS, "rsa-sha2_256": ike.PSS256, "rsa-sha2_384": ike.PSS384, "rsa-sha2_512": ike.PSS512,
	"ecdsa": ike.ECDSA, "ecdsa-sha2": ike.ECDSA, "ecdsa-sha2_256": ike.ECDSA256, "ecdsa-sha2_384": ike.ECDSA384,
	"ecdsa-sha2_512": ike.ECDSA512,
}

// Signatures returns what "authby" allows: what the daemon signs with, and what it takes of its peer. A version that is known to be before
// 5.0 signs with RSA wherever that is allowed, whatever its key is (asked of 4.10); of others, "" among them, that is not known.
func Signatures(words, version string) (signs, takes ike.Signatures) {
	for word := range strings.SplitSeq(strings.ToLower(words), ",") {
		takes |= authby[strings.TrimSpace(word)]
	}
	if takes&ike.RSASHA1 != 0 { // RSASSA-PKCS1-v1_5 is taken, with any hash that is told the peer
		takes |= ike.RSAv15 & takes.Hashes()
	}
	if signs = takes & ike.ByKey("RSA"); signs == 0 || version == "" || daemon.Compare(version, "5.0") >= 0 {
		signs = takes
	}
	return signs, takes
}
