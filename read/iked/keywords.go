package iked

import (
	"fmt"
	"strconv"
	"strings"

	"toril/ike"
)

// The daemon's names of algorithms (iked.conf(5), CRYPTO TRANSFORMS; OpenIKED 7.2).
var (
	auths  = map[string]uint16{"hmac-md5": 1, "hmac-sha1": 2, "hmac-sha2-256": 12, "hmac-sha2-384": 13, "hmac-sha2-512": 14}
	prfs   = map[string]uint16{"hmac-md5": 1, "hmac-sha1": 2, "hmac-sha2-256": 5, "hmac-sha2-384": 6, "hmac-sha2-512": 7}
	groups = map[string]uint16{"none": 0, "modp768": 1, "modp1024": 2, "modp1536": 5, "modp2048": 14, "modp3072": 15, "modp4096": 16, "modp6144": 17, "modp8192": 18,
		"ecp256": 19, "ecp384": 20, "ecp521": 21, "ecp192": 25, "ecp224": 26, "brainpool224": 27, "brainpool256": 28, "brainpool384": 29, "brainpool512": 30, "curve25519": 31, "sntrup761x25519": 1035}
)

// ciphers are the names of "enc".
var ciphers = func() map[string]ike.Choice {
	m := map[string]ike.Choice{}
	add := func(name string, id uint16, bits int) { m[name] = ike.Pick(ike.Encryption, id, bits) }
	add("3des", 3, 0)
	add("3des-cbc", 3, 0)
	add("des", 2, 0)
	add("cast", 6, 128)
	add("cast-cbc", 6, 128)
	add("blowfish", 7, 128)
	add("blowfish-cbc", 7, 128)
	add("null", 11, 0)
	add("chacha20-poly1305", 28, 0)
	add("aes", 12, 128)
	for _, bits := range []int{128, 192, 256} {
		add(fmt.Sprintf("aes-%d", bits), 12, bits)
		add(fmt.Sprintf("aes-%d-cbc", bits), 12, bits)
		add(fmt.Sprintf("aes-%d-ctr", bits), 13, bits)
		add(fmt.Sprintf("aes-%d-gcm", bits), 20, bits)
		add(fmt.Sprintf("aes-%d-gcm-12", bits), 19, bits)
		add(fmt.Sprintf("aes-%d-gmac", bits), 21, bits)
	}
	return m
}()

// group returns the number of a group: by name, or "grp" with the number.
func group(name string) (uint16, bool) {
	if id, ok := groups[name]; ok {
		return id, true
	}
	if n, ok := strings.CutPrefix(name, "grp"); ok {
		id, err := strconv.ParseUint(n, 10, 16)
		return uint16(id), err == nil
	}
	return 0, false
}

// The daemon's own proposals (OpenIKED 7.2).
var (
	allGroups = choices(ike.KeyExchange, 31, 21, 20, 19, 16, 15, 14, 5, 2)
	allPRFs   = choices(ike.PRF, 5, 6, 7, 2)

	defaultIKE = []ike.Proposal{
		{Protocol: ike.IKE, Transforms: ike.Transforms{ike.Encryption: named("aes-128-gcm", "aes-256-gcm"), ike.PRF: allPRFs, ike.KeyExchange: allGroups}},
		{Protocol: ike.IKE, Transforms: ike.Transforms{ike.Encryption: named("aes-256", "aes-192", "aes-128", "3des"), ike.PRF: allPRFs, ike.Integrity: choices(ike.Integrity, 12, 13, 14, 2), ike.KeyExchange: allGroups}},
	}
	defaultESP = []ike.Proposal{
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: named("aes-128-gcm", "aes-256-gcm"), ike.Sequence: choices(ike.Sequence, 1, 0)}},
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: named("aes-256", "aes-192", "aes-128"), ike.Integrity: choices(ike.Integrity, 12, 13, 14, 2), ike.Sequence: choices(ike.Sequence, 1, 0)}},
	}
	defaultAH = []ike.Proposal{{Protocol: ike.AH, Transforms: ike.Transforms{ike.Integrity: choices(ike.Integrity, 12, 13, 14, 2), ike.Sequence: choices(ike.Sequence, 1, 0)}}}
)

func choices(r ike.Registry, ids ...uint16) ike.Choices {
	var out ike.Choices
	for _, id := range ids {
		out = append(out, ike.Pick(r, id, 0))
	}
	return out
}

func named(names ...string) ike.Choices {
	var out ike.Choices
	for _, n := range names {
		out = append(out, ciphers[n])
	}
	return out
}
