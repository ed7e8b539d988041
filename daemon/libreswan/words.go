package libreswan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"toril/daemon"
	"toril/ike"
)

// Words are the daemon's words for algorithms: ciphers, hashes, groups.
func Words() []string {
	return slices.Concat(slices.Sorted(maps.Keys(ciphers())), slices.Sorted(maps.Keys(hashes)), slices.Sorted(maps.Keys(groups)))
}

// ciphers, hashes and groups are the daemon's names of algorithms (Libreswan 4.10), in lower case.
var ciphers = sync.OnceValue(func() map[string][]ike.Choice {
	m := map[string][]ike.Choice{}
	add := func(id uint16, sizes []int, names ...string) {
		for _, n := range names {
			for _, bits := range sizes {
				sized := fmt.Sprintf("%s%d", n, bits)
				if n[len(n)-1] >= '0' && n[len(n)-1] <= '9' {
					sized = fmt.Sprintf("%s_%d", n, bits)
				}
				m[sized] = []ike.Choice{ike.Pick(ike.Encryption, id, bits)}
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
		}
	}
	one(3, "3des", "3des_cbc")
	one(28, "chacha20_poly1305", "chacha20poly1305")
	one(11, "null")
	return m
})

type hash struct{ integrity, prf uint16 }

var hashes = map[string]hash{"sha1": {2, 2}, "sha": {2, 2}, "sha2": {12, 5}, "sha256": {12, 5}, "sha2_256": {12, 5}, "sha384": {13, 6}, "sha2_384": {13, 6},
	"sha512": {14, 7}, "sha2_512": {14, 7}, "md5": {1, 1}, "aes_xcbc": {5, 4}, "aes_xcbc_96": {5, 4}, "aes_xcbc_128": {5, 4}, "aes128_xcbc": {5, 4}, "aes_cmac": {8, 8}, "aes_cmac_96": {8, 8},
	"hmac_sha1": {2, 2}, "hmac_sha2_256": {12, 5}, "hmac_sha2_384": {13, 6}, "hmac_sha2_512": {14, 7}, "hmac_md5": {1, 1}, "sha1_96": {2, 2}, "hmac_sha1_96": {2, 2},
	"sha2_256_128": {12, 5}, "sha2_384_192": {13, 6}, "sha2_512_256": {14, 7}, "hmac_sha2_256_128": {12, 5}, "hmac_sha2_512_256": {14, 7}, "hmac_sha2_384_192": {13, 6}}

var groups = map[string]uint16{"modp1536": 5, "dh5": 5, "modp2048": 14, "dh14": 14, "modp3072": 15, "dh15": 15, "modp4096": 16, "dh16": 16, "modp6144": 17, "dh17": 17,
	"modp8192": 18, "dh18": 18, "dh19": 19, "ecp_256": 19, "ecp256": 19, "dh20": 20, "ecp_384": 20, "ecp384": 20, "dh21": 21, "ecp_521": 21, "ecp521": 21, "dh22": 22, "dh23": 23,
	"dh24": 24, "dh31": 31, "curve25519": 31}

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
	words := strings.FieldsFunc(text, func(r rune) bool { return r == '-' || r == ';' })
	stage := 0 // 0: ciphers, 1: hashes, 2: groups
	if protocol == ike.AH {
		stage = 1
	}
	combined := false
	for _, w := range words {
		for alt := range strings.SplitSeq(w, "+") {
			_, isGroup := groups[alt]
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
				if c := ike.Pick(ike.KeyExchange, groups[alt], 0); !p.Transforms[ike.KeyExchange].Has(c) {
					p.Transforms[ike.KeyExchange] = append(p.Transforms[ike.KeyExchange], c)
				}
				stage = 2
			case alt == "none" && protocol != ike.IKE && (stage == 2 || len(p.Transforms[ike.Integrity]) > 0 || combined):
				p.Transforms[ike.KeyExchange] = append(p.Transforms[ike.KeyExchange], ike.Pick(ike.KeyExchange, 0, 0))
				stage = 2
			case (alt == "null" || alt == "none") && combined:
			default:
				h, ok := hashes[alt]
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
