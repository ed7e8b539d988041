package daemon

import (
	"strconv"
	"strings"
	"sync"

	"toril/ike"
)

// groupsShown are the names of key exchanges in status and logs that are not IANA's.
var groupsShown = sync.OnceValue(func() map[string]uint16 {
	return map[string]uint16{
		"MODP_768":      1,
		"MODP_1024":     2,
		"MODP_1536":     5,
		"MODP_2048":     14,
		"MODP_3072":     15,
		"MODP_4096":     16,
		"MODP_6144":     17,
		"MODP_8192":     18,
		"ECP_256":       19,
		"ECP_384":       20,
		"ECP_521":       21,
		"MODP_1024_160": 22,
		"MODP_2048_224": 23,
		"MODP_2048_256": 24,
		"ECP_192":       25,
		"ECP_224":       26,
		"ECP_224_BP":    27,
		"ECP_256_BP":    28,
		"ECP_384_BP":    29,
		"ECP_512_BP":    30,
		"CURVE_25519":   31,
		"CURVE_448":     32,
		"ML_KEM_512":    35,
		"ML_KEM_768":    36,
		"ML_KEM_1024":   37,
	}
})

// Shown reads an algorithm as status and logs write it: IANA's name without its prefix, and the size of the key behind it in bits
// ("AES_CBC_256", "AES_GCM_16-256", "HMAC_SHA2_256_128", "PRF_HMAC_SHA2_256", "MODP_2048"). A name that is no registry's gives false.
func Shown(text string) (c ike.Choice, ok bool) {
	name := strings.ToUpper(strings.TrimSpace(text))
	if id, is := groupsShown()[name]; is {
		return ike.Pick(ike.KeyExchange, id, 0), true
	}
	switch rest, is := strings.CutPrefix(name, "MODP"); {
	case is && groupsShown()["MODP_"+rest] != 0:
		return ike.Pick(ike.KeyExchange, groupsShown()["MODP_"+rest], 0), true
	case name == "EXT_SEQ" || name == "ESN":
		return ike.Pick(ike.Sequence, 1, 0), true
	case name == "3DES_CBC":
		return ike.Pick(ike.Encryption, 3, 0), true
	}
	if id, err := strconv.ParseUint(strings.TrimPrefix(name, "DH"), 10, 16); err == nil && strings.HasPrefix(name, "DH") {
		return ike.Pick(ike.KeyExchange, uint16(id), 0), true
	}
	if a := ike.ByName(ike.PRF, name); a != nil {
		return ike.Choice{Algorithm: a}, true
	}
	if a := ike.ByName(ike.Integrity, "AUTH_"+name); a != nil {
		return ike.Choice{Algorithm: a}, true
	}
	if a := ike.ByName(ike.Encryption, "ENCR_"+name); a != nil {
		return ike.Choice{Algorithm: a}, true
	}
	if i := strings.LastIndexAny(name, "-_"); i > 0 {
		bits, err := strconv.Atoi(name[i+1:])
		if a := ike.ByName(ike.Encryption, "ENCR_"+name[:i]); a != nil && err == nil {
			return ike.Choice{Algorithm: a, KeyBits: bits}, true
		}
	}
	return ike.Choice{}, false
}

// SuiteShown puts together a suite of such names; all reports whether every name was understood. NO_EXT_SEQ is none of it.
func SuiteShown(protocol ike.Protocol, names ...string) (s ike.Suite, all bool) {
	s.Protocol, all = protocol, true
	for _, n := range names {
		if n == "" || n == "NO_EXT_SEQ" || n == "n/a" {
			continue
		}
		c, ok := Shown(n)
		if !ok {
			all = false
			continue
		}
		s.Transforms[c.Registry] = c
	}
	return s, all
}
