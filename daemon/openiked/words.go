package openiked

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"toril/ike"
)

// The daemon's names of algorithms (iked.conf(5), CRYPTO TRANSFORMS; OpenIKED 7.2).
var (
	auths  = map[string]uint16{"hmac-md5": 1, "hmac-sha1": 2, "hmac-sha2-256": 12, "hmac-sha2-384": 13, "hmac-sha2-512": 14}
	prfs   = map[string]uint16{"hmac-md5": 1, "hmac-sha1": 2, "hmac-sha2-256": 5, "hmac-sha2-384": 6, "hmac-sha2-512": 7}
	groups = map[string]uint16{
		"none":            0,
		"modp768":         1,
		"modp1024":        2,
		"modp1536":        5,
		"modp2048":        14,
		"modp3072":        15,
		"modp4096":        16,
		"modp6144":        17,
		"modp8192":        18,
		"ecp256":          19,
		"ecp384":          20,
		"ecp521":          21,
		"ecp192":          25,
		"ecp224":          26,
		"brainpool224":    27,
		"brainpool256":    28,
		"brainpool384":    29,
		"brainpool512":    30,
		"curve25519":      31,
		"sntrup761x25519": 1035,
	}
)

// size is a cipher with its key length.
type size struct {
	id   uint16
	bits int
}

// cipherWords are the names of "enc" both ways; the first name of each is the one that is written.
type cipherWords struct {
	means map[string]ike.Choice
	name  map[size]string
	alone map[string]ike.Protocol // that a name is for, where it is not for both
}

func ciphers() map[string]ike.Choice { return cipherTable().means }

var cipherTable = sync.OnceValue(func() cipherWords {
	w := cipherWords{map[string]ike.Choice{}, map[size]string{}, map[string]ike.Protocol{}}
	add := func(name string, id uint16, bits int, alone ike.Protocol) {
		w.means[name] = ike.Pick(ike.Encryption, id, bits)
		if k := (size{id, w.means[name].KeyBits}); w.name[k] == "" && name != "aes" {
			w.name[k] = name
		}
		if alone != 0 {
			w.alone[name] = alone
		}
	}
	const both = 0
	add("3des", 3, 0, both)
	add("3des-cbc", 3, 0, both)
	add("cast", 6, 128, ike.ESP)
	add("blowfish", 7, 128, ike.ESP)
	add("null", 11, 0, ike.ESP)
	add("chacha20-poly1305", 28, 0, ike.ESP)
	add("aes", 12, 128, both)
	for _, bits := range []int{128, 192, 256} {
		gcm := ike.Protocol(both)
		if bits == 192 {
			gcm = ike.ESP
		}
		add(fmt.Sprintf("aes-%d", bits), 12, bits, both)
		add(fmt.Sprintf("aes-%d-ctr", bits), 13, bits, ike.ESP)
		add(fmt.Sprintf("aes-%d-gcm", bits), 20, bits, gcm)
		add(fmt.Sprintf("aes-%d-gmac", bits), 21, bits, ike.ESP)
	}
	add("aes-128-gcm-12", 19, 128, ike.IKE)
	add("aes-256-gcm-12", 19, 256, ike.IKE)
	return w
})

// Write returns a proposal as "ikesa" and "childsa" have it: "enc aes-256 auth hmac-sha2-256 group modp2048"; the error is that the daemon
// has no word for an algorithm. Read again, the proposal is the same.
func Write(p ike.Proposal) (string, error) {
	var out []string
	for _, kind := range []struct {
		word string
		of   ike.Registry
		from map[string]uint16
	}{{"enc", ike.Encryption, nil}, {"auth", ike.Integrity, auths}, {"prf", ike.PRF, prfs}, {"group", ike.KeyExchange, groups}} {
		for _, c := range p.Of(kind.of) {
			name := cipherTable().name[size{c.ID, c.KeyBits}]
			if kind.from != nil {
				name = ""
				for n, id := range kind.from {
					if id == c.ID {
						name = n
					}
				}
			}
			if name == "" {
				return "", fmt.Errorf("%s has no word in iked.conf", c)
			}
			out = append(out, kind.word, name)
		}
	}
	for r := ike.Additional1; r <= ike.Additional7; r++ {
		if len(p.Of(r)) > 0 {
			return "", errors.New("iked.conf has no word for additional key exchanges")
		}
	}
	for _, c := range p.Of(ike.Sequence) {
		out = append(out, map[uint16]string{0: "noesn", 1: "esn"}[c.ID])
	}
	return strings.Join(out, " "), nil
}

// group returns the number of a group: by name, or "grp" with the number.
func group(name string) (uint16, bool) {
	if id, ok := groups[name]; ok {
		return id, true
	}
	n, ok := strings.CutPrefix(name, "grp")
	id, err := strconv.ParseUint(n, 10, 16)
	known := ok && err == nil && id > 0 && id < 1000
	return uint16(id), known && slices.Contains(slices.Collect(maps.Values(groups)), uint16(id))
}

// own are the daemon's own proposals (OpenIKED 7.2).
var own = sync.OnceValue(func() map[ike.Protocol][]ike.Proposal {
	prf, groups := ike.Picks(ike.PRF, 5, 6, 7, 2), ike.Picks(ike.KeyExchange, 31, 21, 20, 19, 16, 15, 14, 5, 2)
	auth, esn := ike.Picks(ike.Integrity, 12, 13, 14, 2), ike.Picks(ike.Sequence, 1, 0)
	combined, plain := named("aes-128-gcm", "aes-256-gcm"), named("aes-256", "aes-192", "aes-128")
	return map[ike.Protocol][]ike.Proposal{
		ike.IKE: {
			{Protocol: ike.IKE, Transforms: ike.Transforms{ike.Encryption: combined, ike.PRF: prf, ike.KeyExchange: groups}},
			{
				Protocol: ike.IKE,
				Transforms: ike.Transforms{
					ike.Encryption:  slices.Concat(plain, named("3des")),
					ike.PRF:         prf,
					ike.Integrity:   auth,
					ike.KeyExchange: groups,
				},
			},
		},
		ike.ESP: {
			{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: combined, ike.Sequence: esn}},
			{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: plain, ike.Integrity: auth, ike.Sequence: esn}},
		},
		ike.AH: {{Protocol: ike.AH, Transforms: ike.Transforms{ike.Integrity: auth, ike.Sequence: esn}}},
	}
})

// Default is what the daemon proposes where nothing is written: for IKE and ESP first the combined ciphers (AEAD), then the others.
func Default(protocol ike.Protocol) []ike.Proposal { return own()[protocol] }

// Words are the daemon's words for algorithms: of "enc", "auth", "prf", "group".
func Words() []string {
	return slices.Concat(
		slices.Sorted(maps.Keys(ciphers())),
		slices.Sorted(maps.Keys(auths)),
		slices.Sorted(maps.Keys(prfs)),
		slices.Sorted(maps.Keys(groups)),
	)
}

// Transform reads one transform: what is said ("enc", "auth", "prf", "group") of the IKE SA or of a child, and the daemon's word for the
// algorithm. Group "none" is number 0, no key exchange. The last result is false where the daemon knows no such word there.
func Transform(protocol ike.Protocol, kind, name string) (ike.Choice, bool) {
	table, registry := auths, ike.Integrity
	switch kind {
	case "enc":
		c, ok := ciphers()[name]
		alone, restricted := cipherTable().alone[name]
		return c, ok && (!restricted || (alone == ike.IKE) == (protocol == ike.IKE))
	case "prf":
		table, registry = prfs, ike.PRF
	case "group":
		id, ok := group(name)
		return ike.Pick(ike.KeyExchange, id, 0), ok && (id > 0 || protocol != ike.IKE)
	}
	id, ok := table[name]
	return ike.Pick(registry, id, 0), ok
}

// Mixed says why the daemon refuses a proposal whose words it knows; "" where it does not (OpenIKED 7.2).
func Mixed(p ike.Proposal) string {
	switch some := combined(p); {
	case p.Protocol == ike.IKE && len(p.Transforms[ike.Sequence]) > 0:
		return "extended sequence numbers are of child SAs"
	case some && slices.ContainsFunc(p.Transforms[ike.Encryption], func(c ike.Choice) bool { return !c.Algorithm.Combined }):
		return "a proposal has combined ciphers (AEAD) or others, not both"
	case some && len(p.Transforms[ike.Integrity]) > 0:
		return "a combined cipher (AEAD) goes without an algorithm for integrity"
	}
	return ""
}

func named(names ...string) ike.Choices {
	var out ike.Choices
	for _, n := range names {
		out = append(out, ciphers()[n])
	}
	return out
}

// combined reports whether a proposal has a cipher that protects integrity too (AEAD).
func combined(p ike.Proposal) bool {
	return slices.ContainsFunc(p.Transforms[ike.Encryption], func(c ike.Choice) bool { return c.Algorithm.Combined })
}

// Complete adds what a proposal leaves to the daemon: transforms of a type that it does not name. Without ciphers it becomes one proposal
// with combined ciphers (AEAD), unless it names integrity, and one with others; a child has no PRF, whatever is written.
func Complete(p ike.Proposal) []ike.Proposal { return complete(p, Default(p.Protocol)) }

func complete(p ike.Proposal, own []ike.Proposal) (out []ike.Proposal) {
	if p.Protocol != ike.IKE {
		p.Transforms[ike.PRF] = nil
	}
	for i, base := range own {
		one := p
		switch {
		case len(p.Transforms[ike.Encryption]) > 0:
			if combined(p) != combined(base) && i < len(own)-1 {
				continue
			}
		case combined(base) && len(p.Transforms[ike.Integrity]) > 0:
			continue
		}
		for _, r := range []ike.Registry{ike.Encryption, ike.Integrity, ike.PRF, ike.KeyExchange, ike.Sequence} {
			if len(one.Transforms[r]) == 0 {
				one.Transforms[r] = base.Transforms[r]
			}
		}
		if combined(one) {
			one.Transforms[ike.Integrity] = nil
		}
		out = append(out, one)
		if len(p.Transforms[ike.Encryption]) > 0 {
			break
		}
	}
	return out
}
