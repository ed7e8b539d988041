package strength

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"math"
	"net/netip"
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"
)

// shape is what people write that is found by its form, and what it is worth in bits.
type shape struct {
	form *regexp.Regexp
	is   func(text string) bool
	bits float64
}

// shapes are made when the first secret is judged: no other run pays for them.
var shapes = sync.OnceValue(func() []shape {
	return []shape{
		// a day with signs between its numbers, 366 of 160 years, in one of eight ways
		{regexp.MustCompile(`(\d{1,2}[-./_ ]\d{1,2}[-./_ ](\d{4}|\d\d)|\d{4}[-./_ ]\d{1,2}[-./_ ]\d{1,2})`), dotted, math.Log2(366 * 160 * 8)},
		// an IPv4 address: 32 bits, and mostly one of a few networks
		{regexp.MustCompile(`\d{1,3}\.\d{1,3}\.\d{1,3}\.\d{1,3}`), address, 24},
		// a hardware address: of few makers, and 24 bits; whoever is near sees it
		{regexp.MustCompile(`(?i)[0-9a-f]{2}([:-][0-9a-f]{2}){5}`), nil, 30},
		{regexp.MustCompile(`(?i)[0-9a-f]{4}\.[0-9a-f]{4}\.[0-9a-f]{4}`), nil, 30},
	}
})

// dotted reports whether a text is a day with signs between its numbers.
func dotted(text string) bool {
	fields := strings.FieldsFunc(text, func(r rune) bool { return r < '0' || r > '9' })
	digits := ""
	for _, f := range fields {
		if len(f) == 1 {
			f = "0" + f
		}
		digits += f
	}
	return (len(digits) == 6 || len(digits) == 8) && day(digits)
}

func address(text string) bool {
	_, err := netip.ParseAddr(text)
	return err == nil
}

// shaped finds those.
func shaped(text []rune) []part {
	all := string(text)
	if len(all) != len(text) || !strings.ContainsAny(all, ".-:/_ ") { // of other letters its places would not be the text's
		return nil
	}
	var out []part
	for _, s := range shapes() {
		for from := 0; from < len(all); {
			at := s.form.FindStringIndex(all[from:])
			if at == nil {
				break
			}
			i, j := from+at[0], from+at[1]
			if s.is == nil || s.is(all[i:j]) {
				out = append(out, part{i, j, s.bits})
				from = j
				continue
			}
			from = i + 1
		}
	}
	return out
}

// hashed are the ranks of the common words, by the first bytes of what MD5, SHA-1 and SHA-256 make of them.
var hashed = sync.OnceValue(func() map[[16]byte]uint32 {
	d := common()
	out := make(map[[16]byte]uint32, 3*len(d.lines))
	for i := range d.lines {
		word := []byte(d.word(i))
		m, s1, s2 := md5.Sum(word), sha1.Sum(word), sha256.Sum256(word)
		for _, sum := range [][]byte{m[:], s1[:], s2[:]} {
			out[[16]byte(sum)] = d.ranks[i]
		}
	}
	return out
})

// encoded is what a secret is worth that is another text in hex or base64, or the hash of a common word; ok is false where it is neither.
func (n *Names) encoded(secret string) (bits float64, ok bool) {
	if b, err := hex.DecodeString(secret); err == nil && len(b) > 3 {
		if len(b) == md5.Size || len(b) == sha1.Size || len(b) == sha256.Size {
			if rank, known := hashed()[[16]byte(b)]; known {
				return math.Log2(float64(rank)) + 3, true
			}
		}
		if plain(b) {
			return n.Bits(string(b)) + 1, true
		}
	}
	if b, err := base64.StdEncoding.DecodeString(secret); err == nil && len(b) > 5 && plain(b) {
		return n.Bits(strings.TrimRight(string(b), "\n")) + 1, true
	}
	return 0, false
}

// plain reports whether bytes are a text that somebody wrote.
func plain(b []byte) bool {
	text := strings.TrimRight(string(b), "\n")
	return utf8.ValidString(text) && !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// printed are the example keys that the manuals of IKE daemons print, and their sample files: those of strongSwan 5.9.8, Libreswan 4.10 and
// OpenIKED 7.2 were read; five others are of older manuals and test suites, and could not be looked up here.
var printed = map[string]bool{
	"v+NkxY9LLZvwj4qCC2o/gGrWDF2d21jL":              true,
	"FpZAZqEN6Ti9sqt4ZP5EWcqx":                      true,
	"45a30759df97dc26a15b88ff":                      true,
	"This is a strong password":                     true,
	"secret shared by two hosts":                    true,
	"shared secret with many roadwarriors":          true,
	"secret shared by 5 systems":                    true,
	"post-quantum preshared key for extra security": true,
	"you-should-not-use-psk-authentication!":        true,
	"foobar":                                        true,
	"mekmitasdigoat":                                true,
	"jxVS1kVUTTulkVRRTnTujSm444jRuU1mlkklku2nkW3nnVuV2WjjRRnulmlkmU1Run5VSnnRT": true,
}

// Printed reports whether a key is an example that the manual of an IKE daemon prints, as text, in hex or in base64.
func Printed(secret string) bool {
	return printed[secret] || printed[hex.EncodeToString([]byte(secret))] || printed[base64.StdEncoding.EncodeToString([]byte(secret))]
}
