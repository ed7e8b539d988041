package draft

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"toril/ike"
)

// algorithm reads a word that many languages have for an algorithm, by IANA's name. Size of a key: as the word says it, else 128 for AES.
func algorithm(word string) (part, iana string, ok bool) {
	w := strings.NewReplacer("-", "", "_", "", ".", "", "/", "").Replace(strings.ToLower(word))
	w = strings.TrimPrefix(w, "hmac")
	switch w {
	case "3des", "3descbc", "des3", "tripledes":
		return "encryption", "ENCR_3DES", true
	case "des", "descbc":
		return "encryption", "ENCR_DES", true
	case "md5":
		return "integrity", "AUTH_HMAC_MD5_96", true
	case "sha", "sha1":
		return "integrity", "AUTH_HMAC_SHA1_96", true
	case "sha256", "sha2256":
		return "integrity", "AUTH_HMAC_SHA2_256_128", true
	case "sha384", "sha2384":
		return "integrity", "AUTH_HMAC_SHA2_384_192", true
	case "sha512", "sha2512":
		return "integrity", "AUTH_HMAC_SHA2_512_256", true
	case "chacha20poly1305", "chacha20":
		return "encryption", "ENCR_CHACHA20_POLY1305", true
	case "null":
		return "encryption", "ENCR_NULL", true
	}
	rest, aes := strings.CutPrefix(w, "aes")
	gcm := strings.Contains(w, "gcm")
	if !aes && !gcm {
		return "", "", false
	}
	bits := 0
	for _, n := range []int{128, 192, 256} {
		if strings.Contains(rest, strconv.Itoa(n)) {
			bits = n
		}
	}
	left := strings.NewReplacer("gcm16", "", "gcm", "", "cbc", "", "128", "", "192", "", "256", "").Replace(rest)
	if left != "" || bits == 0 && rest != "" && !gcm {
		return "", "", false
	}
	if bits == 0 {
		bits = 128
	}
	if gcm {
		return "encryption", fmt.Sprintf("ENCR_AES_GCM_16 %d", bits), true
	}
	return "encryption", fmt.Sprintf("ENCR_AES_CBC %d", bits), true
}

// prfOf is the PRF of the hash that an algorithm for integrity is made of, both by IANA's names; "" where there is none.
func prfOf(integrity string) string {
	if a := ike.ByName(ike.Integrity, integrity); a != nil {
		if prf, ok := ike.PRFOf(ike.Choice{Algorithm: a}); ok {
			return prf.Name
		}
	}
	return ""
}

// group reads a word for a group of a key exchange, with letters: "modp2048", "group14".
func group(word string) (iana string, ok bool) {
	w := strings.NewReplacer("-", "", "_", "").Replace(strings.ToLower(word))
	if n, ok := strings.CutPrefix(w, "group"); ok && len(n) < 3 && isGroup(n) {
		return n, true
	}
	if id, ok := map[string]string{"modp1024": "2", "modp1536": "5", "modp2048": "14", "modp3072": "15", "modp4096": "16", "ecp256": "19",
		"ecp384": "20", "ecp521": "21", "curve25519": "31"}[w]; ok {
		return id, true
	}
	return "", false
}

// isGroup reports whether a number may be that of a group, or the bits of one.
func isGroup(n string) bool {
	switch n {
	case "768", "1024", "1536", "2048", "3072", "4096", "6144", "8192":
		return true
	}
	id, err := strconv.ParseUint(n, 10, 16)
	return err == nil && id > 0 && id < 40 && ike.ByID(ike.KeyExchange, uint16(id)).Known()
}

// has reports whether a text has one of some words in it.
func has(text string, words ...string) bool {
	for _, w := range words {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}

// spans are the units of times, by their types.
var spans = []struct {
	unit  string
	words []string
	span  time.Duration
}{
	{"seconds", []string{"second", "sec"}, time.Second}, {"minutes", []string{"minute", "min"}, time.Minute},
	{"hours", []string{"hour"}, time.Hour}, {"days", []string{"day"}, 24 * time.Hour},
}

// unit guesses the unit of a lifetime: by a word beside it, or by the value. sure is false for the latter.
func unit(text, number string) (unit string, sure bool) {
	for _, s := range spans {
		if has(text, s.words...) {
			return s.unit, true
		}
	}
	n, _ := strconv.Atoi(number)
	switch {
	case n >= 600 && n != 1440:
		return "seconds", false
	case n >= 30:
		return "minutes", false
	}
	return "hours", false
}
