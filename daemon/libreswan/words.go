package libreswan

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"toril/daemon"
	"toril/ike"
)

// Words are the daemon's words for algorithms: ciphers, hashes, groups.
func Words() []string {
	return slices.Concat(
		slices.Sorted(maps.Keys(ciphers())),
		slices.Sorted(maps.Keys(words().hashes)),
		slices.Sorted(maps.Keys(words().groups)),
	)
}

// cipherWords are the daemon's names of ciphers both ways: what each stands for, and the first name of each.
type cipherWords struct {
	means map[string][]ike.Choice
	name  map[size]string
}

type size struct {
	id   uint16
	bits int
}

func ciphers() map[string][]ike.Choice { return cipherTable().means }

// The daemon's names of ciphers, hashes and groups (Libreswan 4.10), in lower case; the first name of each is the one that is written.
var cipherTable = sync.OnceValue(func() cipherWords {
	m, first := map[string][]ike.Choice{}, map[size]string{}
	note := func(c ike.Choice, name string) {
		if k := (size{c.ID, c.KeyBits}); first[k] == "" {
			first[k] = name
		}
	}
	add := func(id uint16, sizes []int, names ...string) {
		for _, n := range names {
			for _, bits := range sizes {
				sized := fmt.Sprintf("%s%d", n, bits)
				if n[len(n)-1] >= '0' && n[len(n)-1] <= '9' {
					sized = fmt.Sprintf("%s_%d", n, bits)
				}
				m[sized] = []ike.Choice{ike.Pick(ike.Encryption, id, bits)}
				note(m[sized][0], sized)
				m[fmt.Sprintf("%s_%d", n, bits)] = m[sized]
				if bits != 192 { // without a size: 256 and 128 bits
					m[n] = append([]ike.Choice{ike.Pick(ike.Encryption, id, bits)}, m[n]...)
				}
			}
		}
	}
	sizes := []int{128, 192, 256}
	add(12, sizes, "aes", "aes_cbc")
	add(13, sizes, "aes_ctr", "aesctr")
	add(20, sizes, "aes_gcm", "aes_gcm_c", "aes_gcm_16", "aesgcm")
	add(19, sizes, "aes_gcm_b", "aes_gcm_12")
	add(18, sizes, "aes_gcm_a", "aes_gcm_8")
	add(16, sizes, "aes_ccm", "aes_ccm_c", "aes_ccm_16")
	add(15, sizes, "aes_ccm_b", "aes_ccm_12")
	add(14, sizes, "aes_ccm_a", "aes_ccm_8")
	add(23, sizes, "camellia", "camellia_cbc")
	add(21, sizes, "null_auth_aes_gmac", "aes_gmac")
	one := func(id uint16, names ...string) {
		for _, n := range names {
			m[n] = []ike.Choice{ike.Pick(ike.Encryption, id, 0)}
			note(m[n][0], n)
		}
	}
	one(3, "3des", "3des_cbc")
	one(28, "chacha20_poly1305", "chacha20poly1305")
	one(11, "null")
	return cipherWords{m, first}
})

// hash is what a word for a hash stands for: integrity, and in IKE the PRF.
type hash struct{ integrity, prf uint16 }

// hashNames and groupNames are the words, a line each: the numbers, then the names, the first of them the one that is written.
const (
	hashNames = `
		1 1 md5 hmac_md5
		2 2 sha1 sha hmac_sha1 sha1_96 hmac_sha1_96
		12 5 sha2_256 sha2 sha256 hmac_sha2_256 sha2_256_128 hmac_sha2_256_128
		13 6 sha2_384 sha384 hmac_sha2_384 sha2_384_192 hmac_sha2_384_192
		14 7 sha2_512 sha512 hmac_sha2_512 sha2_512_256 hmac_sha2_512_256
		5 4 aes_xcbc aes_xcbc_96 aes_xcbc_128 aes128_xcbc
		8 8 aes_cmac aes_cmac_96`
	groupNames = `
		5 dh5 modp1536
		14 dh14 modp2048
		15 dh15 modp3072
		16 dh16 modp4096
		17 dh17 modp6144
		18 dh18 modp8192
		19 dh19 ecp_256 ecp256
		20 dh20 ecp_384 ecp384
		21 dh21 ecp_521 ecp521
		22 dh22
		23 dh23
		24 dh24
		31 dh31 curve25519`
)

// wordTable is the words of hashes and groups, both ways.
type wordTable struct {
	hashes    map[string]hash
	hashName  map[uint16]string // by the number of the integrity algorithm
	groups    map[string]uint16
	groupName map[uint16]string
}

var words = sync.OnceValue(func() wordTable {
	w := wordTable{map[string]hash{}, map[uint16]string{}, map[string]uint16{}, map[uint16]string{}}
	number := func(s string) uint16 {
		n, err := strconv.ParseUint(s, 10, 16)
		if err != nil {
			panic(err)
		}
		return uint16(n)
	}
	for line := range strings.Lines(strings.TrimSpace(hashNames)) {
		f := strings.Fields(line)
		h := hash{number(f[0]), number(f[1])}
		w.hashName[h.integrity] = f[2]
		for _, name := range f[2:] {
			w.hashes[name] = h
		}
	}
	for line := range strings.Lines(strings.TrimSpace(groupNames)) {
		f := strings.Fields(line)
		w.groupName[number(f[0])] = f[1]
		for _, name := range f[1:] {
			w.groups[name] = number(f[0])
		}
	}
	return w
})

// Write returns a proposal in the daemon's words, as ike=, esp= or ah= have it; the error is that they cannot say it. Read again, the
// proposal is the same, but for its sequence numbers, which esn= says.
func Write(p ike.Proposal) (string, error) {
	var encryption, hashed, groups []string
	combined := false
	for _, c := range p.Of(ike.Encryption) {
		name := cipherTable().name[size{c.ID, c.KeyBits}]
		if name == "" {
			return "", fmt.Errorf("%s has no word in ipsec.conf", c)
		}
		encryption = append(encryption, name)
		combined = combined || c.Algorithm.Combined
	}
	integrity := p.Of(ike.Integrity)
	prfs := map[uint16]string{}
	for _, h := range words().hashes {
		prfs[h.prf] = words().hashName[h.integrity]
	}
	switch {
	case p.Protocol == ike.IKE && combined:
		for _, c := range p.Of(ike.PRF) {
			if prfs[c.ID] == "" {
				return "", fmt.Errorf("%s has no word in ipsec.conf", c)
			}
			hashed = append(hashed, prfs[c.ID])
		}
	default:
		for i, c := range integrity {
			name := words().hashName[c.ID]
			if name == "" {
				return "", fmt.Errorf("%s has no word in ipsec.conf", c)
			}
			hashed = append(hashed, name)
			if p.Protocol == ike.IKE && (len(p.Of(ike.PRF)) != len(integrity) || p.Of(ike.PRF)[i].ID != words().hashes[name].prf) {
				return "", errors.New("ipsec.conf has one word for integrity and PRF, and these differ")
			}
		}
	}
	for _, c := range p.Of(ike.KeyExchange) {
		name := words().groupName[c.ID]
		if name == "" {
			return "", fmt.Errorf("%s has no word in ipsec.conf", c)
		}
		groups = append(groups, name)
	}
	for r := ike.Additional1; r <= ike.Additional7; r++ {
		if len(p.Of(r)) > 0 {
			return "", errors.New("ipsec.conf has no word for additional key exchanges")
		}
	}
	var parts []string
	for _, part := range [][]string{encryption, hashed} {
		if len(part) > 0 {
			parts = append(parts, strings.Join(part, "+"))
		}
	}
	out := strings.Join(parts, "-")
	if len(groups) > 0 {
		out += ";" + strings.Join(groups, "+")
	}
	return out, nil
}

// Dialect is for what a proposal is written: the zero value is IKEv2, and the newest version of the daemon that is known. What the
// versions fill in was asked of the algparse of 4.3, 4.10 and 5.2.
type Dialect struct {
	V1      bool   // IKEv1
	Version string // of the daemon; "" where it is not known
}

// old reports whether the daemon is from before 5.0, which put other suites in place of its own.
func (d Dialect) old() bool { return d.Version != "" && daemon.Compare(d.Version, "5.0") < 0 }

// groups are those that the daemon offers where a proposal for IKE has none, in this order.
func (d Dialect) groups() ike.Choices {
	switch {
	case d.V1 && d.old():
		return ike.Picks(ike.KeyExchange, 14, 5)
	case d.V1:
		return ike.Picks(ike.KeyExchange, 14, 5, 19, 31)
	case d.old():
		return ike.Picks(ike.KeyExchange, 14, 15, 16, 18, 19, 20, 21, 31)
	}
	return ike.Picks(ike.KeyExchange, 19, 20, 21, 31, 16, 15, 14, 18)
}

// hashes are those that it offers where a proposal has none: for IKE, as PRF and for integrity.
func (d Dialect) hashes(protocol ike.Protocol) (integrity, prf []uint16) {
	switch {
	case !d.V1:
		return []uint16{14, 12}, []uint16{7, 5}
	case protocol == ike.IKE:
		return []uint16{12, 14, 2}, []uint16{5, 7, 2}
	case d.old():
		return []uint16{2}, nil
	}
	return []uint16{2, 14, 12}, nil
}

// Proposals reads the value of ike=, esp= or ah=, "cipher+cipher-hash-group;group, ...". The error says what the daemon has against it.
func (d Dialect) Proposals(text string, protocol ike.Protocol) ([]ike.Proposal, error) {
	var out []ike.Proposal
	withGroup := 0
	for part := range strings.SplitSeq(text, ",") {
		part = strings.ToLower(strings.TrimSpace(part))
		if part == "" {
			continue
		}
		p, err := d.parseOne(part, protocol)
		if err != nil {
			return out, fmt.Errorf("the daemon refuses proposal %q: %w", part, err)
		}
		if len(p.Transforms[ike.KeyExchange]) > 0 {
			withGroup++
		}
		out = append(out, p)
	}
	if protocol != ike.IKE && withGroup > 0 && withGroup < len(out) {
		return out, fmt.Errorf("the daemon refuses it: either all proposals name a group, or none does")
	}
	return out, nil
}

func (d Dialect) parseOne(text string, protocol ike.Protocol) (ike.Proposal, error) {
	p := ike.Proposal{Text: text, Protocol: protocol}
	parts := strings.FieldsFunc(text, func(r rune) bool { return r == '-' || r == ';' })
	stage := 0 // 0: ciphers, 1: hashes, 2: groups
	if protocol == ike.AH {
		stage = 1
	}
	combined := false
	for _, w := range parts {
		for alt := range strings.SplitSeq(w, "+") {
			_, isGroup := words().groups[alt]
			switch {
			case stage == 0:
				cs, ok := ciphers()[alt]
				if !ok {
					return p, fmt.Errorf("%q is not a cipher that it knows", alt)
				}
				for _, c := range cs {
					if !p.Transforms[ike.Encryption].Has(c) {
						p.Transforms[ike.Encryption] = append(p.Transforms[ike.Encryption], c)
					}
					combined = combined || c.Algorithm.Combined
				}
			case isGroup:
				if c := ike.Pick(ike.KeyExchange, words().groups[alt], 0); !p.Transforms[ike.KeyExchange].Has(c) {
					p.Transforms[ike.KeyExchange] = append(p.Transforms[ike.KeyExchange], c)
				}
				stage = 2
			case alt == "none" && protocol != ike.IKE && (stage == 2 || len(p.Transforms[ike.Integrity]) > 0 || combined):
				p.Transforms[ike.KeyExchange] = append(p.Transforms[ike.KeyExchange], ike.Pick(ike.KeyExchange, 0, 0))
				stage = 2
			case (alt == "null" || alt == "none") && combined:
			default:
				h, ok := words().hashes[alt]
				if !ok || stage == 2 {
					return p, fmt.Errorf("%q is neither a hash nor a group that it knows", alt)
				}
				if protocol == ike.IKE {
					if c := ike.Pick(ike.PRF, h.prf, 0); !p.Transforms[ike.PRF].Has(c) {
						p.Transforms[ike.PRF] = append(p.Transforms[ike.PRF], c)
					}
				}
				if c := ike.Pick(ike.Integrity, h.integrity, 0); !combined && !p.Transforms[ike.Integrity].Has(c) {
					p.Transforms[ike.Integrity] = append(p.Transforms[ike.Integrity], c)
				}
			}
		}
		if stage == 0 {
			stage = 1
		}
	}
	return d.complete(p, combined)
}

// complete adds what a proposal leaves to the daemon.
func (d Dialect) complete(p ike.Proposal, combined bool) (ike.Proposal, error) {
	integrity, prf := d.hashes(p.Protocol)
	if len(p.Transforms[ike.Integrity]) == 0 && !combined {
		p.Transforms[ike.Integrity] = ike.Picks(ike.Integrity, integrity...)
	}
	if p.Protocol != ike.IKE {
		return p, nil
	}
	if len(p.Transforms[ike.PRF]) == 0 {
		p.Transforms[ike.PRF] = ike.Picks(ike.PRF, prf...)
	}
	if len(p.Transforms[ike.KeyExchange]) == 0 {
		p.Transforms[ike.KeyExchange] = d.groups()
	}
	if slices.ContainsFunc(p.Transforms[ike.Encryption], func(c ike.Choice) bool { return c.ID == 11 }) {
		return p, fmt.Errorf("IKE cannot go without encryption")
	}
	return p, nil
}

func (d Dialect) must(protocol ike.Protocol, text string) []ike.Proposal {
	ps, err := d.Proposals(text, protocol)
	if err != nil {
		panic(err)
	}
	for i := range ps {
		ps[i].Text = ""
	}
	return ps
}

// Default are the daemon's own proposals.
func (d Dialect) Default(protocol ike.Protocol) []ike.Proposal {
	switch {
	case protocol == ike.IKE && d.V1:
		return d.must(protocol, "aes256,aes128,3des")
	case protocol == ike.IKE && d.old():
		return d.must(protocol, "aes_gcm256,aes_gcm128,aes256,aes128")
	case protocol == ike.IKE:
		return d.must(protocol, "aes_gcm256,aes_gcm128,chacha20_poly1305,aes256,aes128")
	case protocol == ike.ESP && d.V1 && d.old():
		return d.must(protocol, "aes256-sha1,aes128-sha1")
	case protocol == ike.ESP && d.V1:
		const hashes = "-sha1+sha2_512+sha2_256"
		return d.must(protocol, "aes256"+hashes+",aes128"+hashes+",aes_gcm128,aes_gcm256,3des"+hashes)
	case protocol == ike.ESP && d.old():
		return d.must(protocol, "aes_gcm256,aes_gcm128,aes256-sha2_512+sha2_256,aes128-sha2_512+sha2_256")
	case protocol == ike.ESP:
		return d.must(protocol, "aes_gcm256,aes_gcm128,chacha20_poly1305,aes256-sha2_512+sha2_256,aes128-sha2_512+sha2_256")
	case d.V1 && d.old():
		return d.must(protocol, "sha1")
	case d.V1:
		return d.must(protocol, "sha1+sha2_512+sha2_256")
	case d.old():
		return d.must(protocol, "sha2_512+sha2_256+sha1")
	}
	return d.must(protocol, "sha2_512+sha2_256")
}
