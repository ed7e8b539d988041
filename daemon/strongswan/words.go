package strongswan

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"toril/ike"
	"toril/source"
)

// word is a transform to be named.
type word struct {
	registry ike.Registry
	id       uint16
	bits     int
}

// table is the words both ways.
type table struct {
	means map[string]ike.Choice
	name  map[word]string // the first word of every transform
}

// Words are the daemon's words for transforms, in the order of the alphabet.
func Words() []string { return slices.Sorted(maps.Keys(words().means)) }

// Write returns a proposal in the daemon's keywords; the error is that it has none for an algorithm. Read again, the
// proposal is the same.
func Write(p ike.Proposal) (string, error) {
	var out []string
	name := func(c ike.Choice, before string) error {
		w := words().name[word{c.Registry, c.ID, c.KeyBits}]
		if w == "" {
			return fmt.Errorf("%s has no keyword in swanctl.conf", c)
		}
		out = append(out, before+w)
		return nil
	}
	for _, r := range ike.TypesShown() {
		before := ""
		if r.Exchanges() && r != ike.KeyExchange {
			before = fmt.Sprintf("ke%d_", r-ike.Additional1+1)
		}
		for _, c := range p.Of(r) {
			if err := name(c, before); err != nil {
				return "", err
			}
		}
	}
	return strings.Join(out, "-"), nil
}

// words are the daemon's names of transforms (strongSwan 5.9.8), as it writes them: lower case only.
var words = sync.OnceValue(func() table {
	k, first := map[string]ike.Choice{}, map[word]string{}
	add := func(r ike.Registry, id uint16, bits int, names ...string) {
		for i, name := range names {
			k[name] = ike.Pick(r, id, bits)
			if key := (word{r, id, k[name].KeyBits}); i == 0 && first[key] == "" {
				first[key] = name
			}
		}
	}
	enc, integ, prf, ke := ike.Encryption, ike.Integrity, ike.PRF, ike.KeyExchange
	add(enc, 11, 0, "null")
	add(enc, 2, 0, "des")
	add(enc, 3, 0, "3des")
	add(enc, 6, 128, "cast128")
	add(enc, 28, 0, "chacha20poly1305")
	for _, bits := range []int{128, 192, 256} {
		add(enc, 12, bits, fmt.Sprintf("aes%d", bits))
		add(enc, 13, bits, fmt.Sprintf("aes%dctr", bits))
		add(enc, 21, bits, fmt.Sprintf("aes%dgmac", bits))
		add(enc, 23, bits, fmt.Sprintf("camellia%d", bits))
		add(enc, 24, bits, fmt.Sprintf("camellia%dctr", bits))
		add(enc, 7, bits, fmt.Sprintf("blowfish%d", bits))
		add(enc, 1026, bits, fmt.Sprintf("serpent%d", bits))
		add(enc, 1027, bits, fmt.Sprintf("twofish%d", bits))
		for i, icv := range []string{"8", "12", "16"} {
			icvBits := fmt.Sprint([]int{64, 96, 128}[i])
			add(enc, uint16(14+i), bits, fmt.Sprintf("aes%dccm%s", bits, icv), fmt.Sprintf("aes%dccm%s", bits, icvBits))
			add(enc, uint16(18+i), bits, fmt.Sprintf("aes%dgcm%s", bits, icv), fmt.Sprintf("aes%dgcm%s", bits, icvBits))
			add(enc, uint16(25+i), bits, fmt.Sprintf("camellia%dccm%s", bits, icv), fmt.Sprintf("camellia%dccm%s", bits, icvBits))
		}
		add(enc, 16, bits, fmt.Sprintf("aes%dccm", bits))
		add(enc, 20, bits, fmt.Sprintf("aes%dgcm", bits))
	}
	for id, name := range map[uint16]string{12: "aes", 23: "camellia", 7: "blowfish", 1026: "serpent", 1027: "twofish"} {
		add(enc, id, 128, name)
	}
	add(integ, 1, 0, "md5")
	add(integ, 6, 0, "md5_128")
	add(integ, 2, 0, "sha1", "sha")
	add(integ, 7, 0, "sha1_160")
	add(integ, 12, 0, "sha256", "sha2_256")
	add(integ, 1024, 0, "sha256_96", "sha2_256_96")
	add(integ, 13, 0, "sha384", "sha2_384")
	add(integ, 14, 0, "sha512", "sha2_512")
	add(integ, 5, 0, "aesxcbc")
	add(integ, 8, 0, "aescmac")
	add(prf, 1, 0, "prfmd5")
	add(prf, 2, 0, "prfsha1")
	add(prf, 4, 0, "prfaesxcbc")
	add(prf, 5, 0, "prfsha256")
	add(prf, 6, 0, "prfsha384")
	add(prf, 7, 0, "prfsha512")
	add(prf, 8, 0, "prfaescmac")
	add(ke, 0, 0, "modpnone")
	for id, name := range map[uint16]string{1: "modp768", 2: "modp1024", 5: "modp1536", 14: "modp2048", 15: "modp3072", 16: "modp4096",
		17: "modp6144",
		18: "modp8192", 19: "ecp256", 20: "ecp384", 21: "ecp521", 22: "modp1024s160", 23: "modp2048s224", 24: "modp2048s256",
		25: "ecp192", 26: "ecp224",
		27: "ecp224bp", 28: "ecp256bp", 29: "ecp384bp", 30: "ecp512bp", 35: "mlkem512", 36: "mlkem768", 37: "mlkem1024", 1030: "ntru112",
		1031: "ntru128",
		1032: "ntru192", 1033: "ntru256", 1040: "newhope128"} {
		add(ke, id, 0, name)
	}
	add(ke, 31, 0, "x25519", "curve25519")
	add(ke, 32, 0, "x448", "curve448")
	add(ike.Sequence, 0, 0, "noesn")
	add(ike.Sequence, 1, 0, "esn")
	return table{k, first}
})

// prfOf is the PRF that an integrity algorithm stands for where a proposal names none.
var prfOf = map[uint16]uint16{1: 1, 6: 1, 2: 2, 7: 2, 12: 5, 1024: 5, 13: 6, 14: 7, 5: 4, 8: 8}

// ErrLines is what the daemon has against a list that goes over lines.
var ErrLines = errors.New("the value goes over several lines")

// parseProposal reads one proposal. What the daemon would refuse is an error that says why; it then refuses the whole
// connection.
func parseProposal(text string, protocol ike.Protocol) (ike.Proposal, error) {
	p := ike.Proposal{Text: text, Protocol: protocol}
	for word := range strings.SplitSeq(text, "-") {
		word = strings.TrimSpace(word)
		n, rest, further := additional(word)
		c, ok := words().means[rest]
		if !ok {
			return p, fmt.Errorf("%q is not a keyword of an algorithm", word)
		}
		registry := c.Registry
		if further {
			if c.Registry != ike.KeyExchange {
				return p, fmt.Errorf("%q is not a key exchange", word)
			}
			registry = ike.Additional1 + ike.Registry(n-1)
		}
		if list := &p.Transforms[registry]; !list.Has(c) {
			*list = append(*list, c)
		}
	}
	return settleProposal(p)
}

// additional takes the number off an additional key exchange: ke1_mlkem768.
func additional(word string) (n int, rest string, ok bool) {
	if len(word) > 4 && strings.HasPrefix(word, "ke") && word[2] >= '1' && word[2] <= '7' && word[3] == '_' {
		return int(word[2] - '0'), word[4:], true
	}
	return 0, word, false
}

// settleProposal does to a proposal what the daemon does when it loads it: it derives the PRF, drops what has no use, and
// refuses what cannot be.
func settleProposal(p ike.Proposal) (ike.Proposal, error) {
	combined, plain := 0, 0
	for _, c := range p.Transforms[ike.Encryption] {
		if c.Algorithm.Combined {
			combined++
		} else {
			plain++
		}
	}
	if combined > 0 && plain > 0 {
		return p, fmt.Errorf("combined ciphers (AEAD) and others cannot be in one proposal")
	}
	switch p.Protocol {
	case ike.IKE:
		if len(p.Transforms[ike.PRF]) == 0 {
			for _, c := range p.Transforms[ike.Integrity] {
				if id, ok := prfOf[c.ID]; ok {
					if prf := ike.Pick(ike.PRF, id, 0); !p.Transforms[ike.PRF].Has(prf) {
						p.Transforms[ike.PRF] = append(p.Transforms[ike.PRF], prf)
					}
				}
			}
		}
		p.Transforms[ike.Sequence] = nil
		var groups ike.Choices
		for _, c := range p.Transforms[ike.KeyExchange] {
			if c.ID != 0 {
				groups = append(groups, c)
			}
		}
		p.Transforms[ike.KeyExchange] = groups
		for _, c := range p.Transforms[ike.Integrity] {
			if c.ID == 1024 {
				return p, fmt.Errorf("HMAC-SHA2-256 cut to 96 bits is not for IKE")
			}
		}
		switch {
		case len(p.Transforms[ike.Encryption]) == 0:
			return p, fmt.Errorf("it names no cipher")
		case combined == 0 && len(p.Transforms[ike.Integrity]) == 0:
			return p, fmt.Errorf("it names no integrity algorithm")
		case len(p.Transforms[ike.PRF]) == 0:
			return p, fmt.Errorf("it names no pseudorandom function")
		case len(p.Transforms[ike.KeyExchange]) == 0:
			return p, fmt.Errorf("it names no key exchange")
		}
	case ike.ESP:
		p.Transforms[ike.PRF] = nil
		if len(p.Transforms[ike.Encryption]) == 0 {
			return p, fmt.Errorf("it names no cipher")
		}
	case ike.AH:
		p.Transforms[ike.PRF], p.Transforms[ike.Encryption] = nil, nil
		if len(p.Transforms[ike.Integrity]) == 0 {
			return p, fmt.Errorf("it names no integrity algorithm")
		}
	}
	if combined > 0 && p.Protocol != ike.AH {
		p.Transforms[ike.Integrity] = nil
	}
	return p, nil
}

// proposals are those of the daemon's own, made when they are asked for.
func proposals(protocol ike.Protocol, texts ...string) func() []ike.Proposal {
	return sync.OnceValue(func() []ike.Proposal {
		var out []ike.Proposal
		for _, text := range texts {
			p, err := parseProposal(text, protocol)
			if err != nil {
				panic(err) // a text above is wrong, which every test notices
			}
			p.Text = ""
			out = append(out, p)
		}
		return out
	})
}

const (
	espCBC = "aes128-aes192-aes256-sha256-sha384-sha512-sha1-aesxcbc"
	espGCM = "aes128gcm16-aes192gcm16-aes256gcm16"
	groups = "-x25519-x448-ecp256-ecp384-ecp521-ecp256bp-ecp384bp-ecp512bp-modp3072-modp4096-modp6144-modp8192-modp2048"
	prfs   = "-prfsha256-prfsha384-prfsha512-prfaesxcbc-prfaescmac-prfsha1"
)

// The daemon's default proposals: version 5.9.8 with Debian's plugins, as it logs them.
const (
	ikePlain = "aes128-aes192-aes256-aes128ctr-aes192ctr-aes256ctr-camellia128-camellia192-camellia256-camellia128ctr" +
		"-camellia192ctr-camellia256ctr" +
		"-3des" +
		"-sha256-sha384-sha512-aescmac-aesxcbc-sha1" + prfs + groups
	ikeCombined = "aes128ccm16-aes192ccm16-aes256ccm16-camellia128ccm16-camellia192ccm16-camellia256ccm16-chacha20poly1305" +
		"-aes128gcm16-aes192gcm16" +
		"-aes256gcm16" +
		"-aes128ccm8-aes192ccm8-aes256ccm8-aes128ccm12-aes192ccm12-aes256ccm12-camellia128ccm8-camellia192ccm8-camellia256ccm8" +
		"-camellia128ccm12-camellia192ccm12-camellia256ccm12-aes128gcm12-aes192gcm12-aes256gcm12-aes128gcm8-aes192gcm8-aes256gcm8" +
		prfs + groups
)

// own holds proposals of the daemon's own by protocol, each made when it is first asked for.
type own map[ike.Protocol]func() []ike.Proposal

func (o own) of(protocol ike.Protocol) []ike.Proposal {
	if f := o[protocol]; f != nil {
		return f()
	}
	return nil
}

var (
	unset     = own{ike.IKE: proposals(ike.IKE, ikePlain, ikeCombined), ike.ESP: proposals(ike.ESP, espGCM, espCBC)}
	byDefault = own{
		ike.IKE: unset[ike.IKE],
		ike.ESP: proposals(ike.ESP, espCBC, espGCM),
		ike.AH:  proposals(ike.AH, "sha256-sha384-sha512-sha1-aesxcbc"),
	}
	unsetConn = own{
		ike.IKE: proposals(ike.IKE, "aes128-sha256-modp3072", ikePlain, ikeCombined),
		ike.ESP: proposals(ike.ESP, "aes128-sha256", espCBC, espGCM),
	}
)

// Unset is what the daemon proposes for a connection of swanctl.conf that names no proposals of a protocol; there is no AH then.
func Unset(protocol ike.Protocol) []ike.Proposal { return unset.of(protocol) }

// Default is what the word "default" in a list of proposals stands for, and what ipsec.conf adds to a list that does not end in "!".
func Default(protocol ike.Protocol) []ike.Proposal { return byDefault.of(protocol) }

// UnsetConn is what the daemon proposes for a connection of ipsec.conf that names no proposals of a protocol, IKE or ESP.
func UnsetConn(protocol ike.Protocol) []ike.Proposal { return unsetConn.of(protocol) }

// Proposals reads a list of proposals, commas between; "default" stands for the daemon's own. The error says what the daemon has against
// the list, which it then refuses with the whole connection.
func Proposals(text string, protocol ike.Protocol) ([]ike.Proposal, error) {
	var out []ike.Proposal
	if strings.Contains(text, "\n") {
		return out, ErrLines
	}
	next := 0
	for part := range strings.SplitSeq(text, ",") {
		at := source.RangeOf(part, next)
		next += len(part) + len(",")
		part = strings.TrimSpace(part)
		switch {
		case part == "":
		case strings.EqualFold(part, "default"):
			out = append(out, Default(protocol)...)
		default:
			p, err := parseProposal(part, protocol)
			if err != nil {
				return out, fmt.Errorf("the daemon refuses proposal %q: %w", part, err)
			}
			p.Range = at
			out = append(out, p)
		}
	}
	return out, nil
}
