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
	"toril/source"
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
	add(20, sizes, "aes_gcm", "aes_gcm_c", "aes_gcm_16")
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

// hash is what a word for a hash stands for: integrity, and in IKE the PRF; 0 where it has none.
type hash struct{ integrity, prf uint16 }

// hashNames and groupNames are the words, a line each: the numbers, then the names, the first of them the one that is written. Those behind
// a bar are for integrity alone, also in IKE.
const (
	hashNames = `
		1 1 md5 hmac_md5 | hmac_md5_96
		2 2 sha1 sha hmac_sha1 | sha1_96 hmac_sha1_96
		12 5 sha2_256 sha2 sha256 hmac_sha2_256 | sha2_256_128 hmac_sha2_256_128
		13 6 sha2_384 sha384 hmac_sha2_384 | sha2_384_192 hmac_sha2_384_192
		14 7 sha2_512 sha512 hmac_sha2_512 | sha2_512_256 hmac_sha2_512_256
		5 4 aes_xcbc aes128_xcbc | aes_xcbc_96
		8 0 aes_cmac aes_cmac_96 |`
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
			if name == "|" {
				h.prf = 0
				continue
			}
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
// proposal is the same, but for its sequence numbers, which esn= says. For IKEv1 it becomes several, with one algorithm of each type.
func (d Dialect) Write(p ike.Proposal) (string, error) {
	if d.V1 && p.Protocol == ike.IKE && len(p.Of(ike.PRF)) != len(p.Of(ike.Integrity)) {
		return "", errors.New("IKEv1 has no such proposal")
	}
	var out []string
	for _, one := range d.expand(p) {
		text, err := written(one)
		if err != nil {
			return "", err
		}
		out = append(out, text)
	}
	text := strings.Join(out, ",")
	_, err := d.Proposals(text, p.Protocol)
	return text, err
}

func written(p ike.Proposal) (string, error) {
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
		if h.prf != 0 {
			prfs[h.prf] = words().hashName[h.integrity]
		}
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

	// NoPFS: perfect forward secrecy is off, and groups of a child mean nothing.
	NoPFS bool

	accepting bool // as a responder
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

// Proposals reads the value of ike=, esp= or ah=, "cipher+cipher-hash;group, ...": what an initiator offers, in its order. The error says
// what the daemon has against it.
func (d Dialect) Proposals(text string, protocol ike.Protocol) ([]ike.Proposal, error) {
	var out []ike.Proposal
	withGroup := 0
	var first ike.Choice // the first group of a proposal
	differ := false
	known := map[string]bool{}
	next := 0
	for part := range strings.SplitSeq(text, ",") {
		at := source.RangeOf(part, next)
		next += len(part) + len(",")
		part = strings.ToLower(part)
		p, err := d.parseOne(part, protocol)
		if err != nil {
			return out, fmt.Errorf("the daemon refuses proposal %q: %w", part, err)
		}
		p.Range = at
		if d.NoPFS && protocol != ike.IKE {
			p.Transforms[ike.KeyExchange] = nil
		}
		if cs := p.Transforms[ike.KeyExchange]; len(cs) > 0 {
			withGroup++
			differ = differ || withGroup > 1 && first.ID != 0 && cs[0].ID != 0 && !first.Same(cs[0])
			if withGroup == 1 || first.ID == 0 {
				first = cs[0]
			}
		}
		for _, one := range d.expand(d.complete(p)) {
			if key := fmt.Sprint(one.All()); !known[key] { // it takes none twice
				known[key] = true
				out = append(out, one)
			}
		}
	}
	switch {
	case protocol == ike.IKE:
	case withGroup > 0 && withGroup < 1+strings.Count(text, ","):
		return out, errors.New("the daemon refuses it: either all proposals name a group, or none does")
	case differ:
		return out, errors.New("the daemon refuses it: all proposals of a child must name the same group first")
	}
	return out, nil
}

// word is a part of a proposal, with what stands before it: '+', '-', ';' or, for the first, 0.
type word struct {
	before byte
	text   string
}

// split takes a proposal apart. IKEv1 knows no alternatives with "+".
func (d Dialect) split(text string) []word {
	signs := "-;+"
	if d.V1 {
		signs = "-;"
	}
	var out []word
	for before := byte(0); ; {
		i := strings.IndexAny(text, signs)
		if i < 0 {
			return append(out, word{before, text})
		}
		out = append(out, word{before, text[:i]})
		before, text = text[i], text[i+1:]
	}
}

// parsing is a proposal being read: its words that were not read yet.
type parsing struct {
	Dialect
	ike.Proposal
	left     []word
	combined bool
	open     []uint16 // ciphers without a size
	none     bool     // for integrity, it says none
	plain    bool     // the words being read are for integrity
}

// next takes the next word where one of these signs stands before it.
func (p *parsing) next(signs string) (string, bool) {
	if len(p.left) == 0 || strings.IndexByte(signs, p.left[0].before) < 0 {
		return "", false
	}
	w := p.left[0].text
	p.left = p.left[1:]
	return w, true
}

func (p *parsing) add(r ike.Registry, c ike.Choice) {
	if !p.Transforms[r].Has(c) {
		p.Transforms[r] = append(p.Transforms[r], c)
	}
}

// alternatives reads words with "+" between them, the first of which was taken.
func (p *parsing) alternatives(w string, one func(w string) error) error {
	for ok := true; ok; w, ok = p.next("+") {
		if err := one(w); err != nil {
			return err
		}
	}
	return nil
}

func (d Dialect) parseOne(text string, protocol ike.Protocol) (*parsing, error) {
	p := &parsing{Dialect: d, Proposal: ike.Proposal{Text: text, Protocol: protocol}, left: d.split(text)}
	w, _ := p.next("\x00")
	if protocol != ike.AH {
		if err := p.alternatives(w, p.cipher); err != nil {
			return p, err
		}
		if next, ok := p.next("-"); ok {
			p.plain = protocol != ike.IKE || !d.V1 && !p.prfs(next)
			if err := p.alternatives(next, p.hash); err != nil {
				return p, err
			}
			if next, ok := p.peek("-"); ok && protocol == ike.IKE && p.plain { // "-integrity-prf"
				p.next("-")
				p.plain = false
				if err := p.alternatives(next, p.hash); err != nil {
					return p, err
				}
			}
		}
	} else {
		p.plain = true
		if err := p.alternatives(w, p.hash); err != nil {
			return p, err
		}
	}
	if next, ok := p.next("-;"); ok {
		if err := p.alternatives(next, p.group); err != nil {
			return p, err
		}
	}
	if len(p.left) > 0 {
		return p, fmt.Errorf("%q was not expected", p.left[0].text)
	}
	switch n := len(p.Transforms[ike.Integrity]); {
	case p.combined && (n > 1 || n == 1 && !p.none):
		return p, errors.New("a cipher that protects integrity itself takes none beside it")
	case p.combined:
		p.Transforms[ike.Integrity] = nil
	case p.none && n == 1:
		return p, errors.New("the cipher needs a hash for integrity")
	}
	return p, nil
}

func (p *parsing) peek(signs string) (string, bool) {
	if len(p.left) == 0 || strings.IndexByte(signs, p.left[0].before) < 0 {
		return "", false
	}
	return p.left[0].text, true
}

// prfs reports whether a word and those with "+" behind it are all PRFs: else they are for integrity, all of them.
func (p *parsing) prfs(w string) bool {
	if words().hashes[w].prf == 0 {
		return false
	}
	for _, more := range p.left {
		if more.before != '+' {
			break
		}
		if words().hashes[more.text].prf == 0 {
			return false
		}
	}
	return true
}

func digits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// cipher reads a cipher; its size may stand behind it, with a dash between.
func (p *parsing) cipher(w string) error {
	if next, ok := p.peek("-"); ok && digits(next) {
		p.next("-")
		w += "_" + next
	}
	cs, ok := ciphers()[w]
	if !ok {
		return fmt.Errorf("%q is not a cipher that it knows", w)
	}
	if !p.inProtocol(cs[0].ID) {
		return fmt.Errorf("it does not take the cipher %q here", w)
	}
	sizes := slices.Clone(cs)
	if len(sizes) > 1 && p.Protocol != ike.IKE { // of a child it is the shorter that it takes first
		slices.Reverse(sizes)
	}
	if len(sizes) > 1 && p.accepting {
		sizes = append(sizes, ike.Pick(ike.Encryption, cs[0].ID, 192))
	}
	before := len(p.Transforms[ike.Encryption]) > 0
	if before && p.combined != cs[0].Algorithm.Combined {
		return errors.New("ciphers that protect integrity themselves and others cannot stand in one proposal")
	}
	p.combined = cs[0].Algorithm.Combined
	if slices.Contains(p.open, cs[0].ID) { // it stood before, without a size
		return nil
	}
	if len(sizes) > 1 {
		p.open = append(p.open, cs[0].ID)
	}
	for _, c := range sizes {
		p.add(ike.Encryption, c)
	}
	return nil
}

// inProtocol reports whether the daemon takes a cipher in the protocol that is proposed, in this version of IKE.
func (p *parsing) inProtocol(id uint16) bool {
	switch {
	case p.Protocol == ike.IKE && p.V1:
		return slices.Contains([]uint16{3, 12, 13, 23}, id)
	case p.Protocol == ike.IKE:
		return slices.Contains([]uint16{3, 12, 13, 18, 19, 20, 23, 28}, id)
	}
	return !p.V1 || id != 28
}

// hash reads a word for integrity, or for a PRF.
func (p *parsing) hash(w string) error {
	h, ok := words().hashes[w]
	switch {
	case p.plain && (w == "none" || w == "null") && p.Protocol != ike.AH:
		p.none = true
		p.add(ike.Integrity, ike.Pick(ike.Integrity, 0, 0))
	case p.plain && ok && !(p.Protocol == ike.IKE && h.integrity == 8):
		p.add(ike.Integrity, ike.Pick(ike.Integrity, h.integrity, 0))
	case !p.plain && h.prf != 0 && !(p.V1 && h.prf == 4):
		p.add(ike.PRF, ike.Pick(ike.PRF, h.prf, 0))
	default:
		return fmt.Errorf("%q is not a hash that it takes here", w)
	}
	return nil
}

func (p *parsing) group(w string) error {
	id, ok := words().groups[w]
	switch {
	case (w == "none" || w == "null") && p.Protocol != ike.IKE && !p.V1:
		id = 0
	case !ok, p.V1 && p.Protocol != ike.IKE && id > 18:
		return fmt.Errorf("%q is not a group that it takes here", w)
	}
	p.add(ike.KeyExchange, ike.Pick(ike.KeyExchange, id, 0))
	return nil
}

// complete adds what a proposal leaves to the daemon.
func (d Dialect) complete(p *parsing) ike.Proposal {
	integrity, prf := d.hashes(p.Protocol)
	if p.Protocol != ike.IKE {
		if len(p.Transforms[ike.Integrity]) == 0 && !p.combined {
			p.Transforms[ike.Integrity] = ike.Picks(ike.Integrity, integrity...)
		}
		return p.Proposal
	}
	if len(p.Transforms[ike.PRF]) == 0 {
		p.Transforms[ike.PRF] = ike.Picks(ike.PRF, prf...)
	}
	if len(p.Transforms[ike.Integrity]) == 0 && !p.combined { // the hashes of the PRFs
		for _, c := range p.Transforms[ike.PRF] {
			for _, h := range words().hashes {
				if h.prf == c.ID {
					p.add(ike.Integrity, ike.Pick(ike.Integrity, h.integrity, 0))
				}
			}
		}
	}
	if len(p.Transforms[ike.KeyExchange]) == 0 {
		p.Transforms[ike.KeyExchange] = d.groups()
	}
	return p.Proposal
}

// expand makes proposals of IKEv1 of what the daemon filled in: one a group, a hash and a size of the cipher.
func (d Dialect) expand(p ike.Proposal) []ike.Proposal {
	if !d.V1 {
		return []ike.Proposal{p}
	}
	out := []ike.Proposal{p}
	for _, r := range []ike.Registry{ike.KeyExchange, ike.Integrity, ike.Encryption} {
		var more []ike.Proposal
		for _, q := range out {
			for i, c := range q.Transforms[r] {
				one := q
				one.Transforms[r] = ike.Choices{c}
				if r == ike.Integrity && p.Protocol == ike.IKE {
					one.Transforms[ike.PRF] = q.Transforms[ike.PRF][i : i+1]
				}
				more = append(more, one)
			}
		}
		if more != nil {
			out = more
		}
	}
	return out
}

// Accepts returns what a responder takes, where that is more than what it would offer itself: under IKEv1 every size of a cipher that is
// written without one, and for a child without proposals whatever the daemon has (asked of 4.10). text is "" where nothing is configured.
func (d Dialect) Accepts(text string, protocol ike.Protocol) []ike.Proposal {
	if !d.V1 {
		return nil
	}
	if text == "" {
		d.Version = ""
		made, _ := accepted.LoadOrStore(accepts{d, protocol}, sync.OnceValue(func() []ike.Proposal { return d.accepts("", protocol) }))
		return made.(func() []ike.Proposal)()
	}
	return d.accepts(text, protocol)
}

// accepted are the long lists: what is taken where nothing is configured.
var accepted sync.Map // accepts: func() []ike.Proposal

type accepts struct {
	Dialect
	ike.Protocol
}

func (d Dialect) accepts(text string, protocol ike.Protocol) []ike.Proposal {
	d.accepting = true
	if text == "" && protocol == ike.IKE {
		for _, hash := range []string{"md5", "sha1", "sha2_256", "sha2_384", "sha2_512"} {
			for _, group := range []string{"dh14", "dh5", "dh15", "dh16", "dh17", "dh18", "dh19", "dh20", "dh21", "dh31"} {
				for _, cipher := range []string{"aes", "3des", "camellia", "aes_ctr"} {
					text += "," + cipher + "-" + hash + ";" + group
				}
			}
		}
		text = text[1:]
	}
	if text == "" && protocol == ike.ESP {
		text = "aes-sha1,aes-sha2_256,aes-sha2_384,aes-sha2_512,aes-md5,aes-aes_xcbc,3des-sha1,3des-md5,3des-sha2_256,3des-sha2_512," +
			"aes_gcm,aes_gcm_12,aes_gcm_8,aes_ccm,aes_ccm_12,aes_ccm_8,aes_ctr-sha1,aes_ctr-sha2_256,camellia-sha1," +
			"camellia-sha2_256,null-sha1"
	}
	if text == "" {
		return nil
	}
	ps, err := d.Proposals(text, protocol)
	if err != nil {
		return nil
	}
	return ps
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
		return d.must(protocol, "aes128-sha1,3des-sha1") // of the daemon itself: its parser tells others
	case protocol == ike.ESP && d.V1:
		return d.must(protocol, "aes256-sha1,aes256-sha2_512,aes256-sha2_256,aes128-sha1,aes128-sha2_512,aes128-sha2_256,"+
			"aes_gcm128,aes_gcm256,"+
			"3des-sha1,3des-sha2_512,3des-sha2_256")
	case protocol == ike.ESP && d.old():
		return d.must(protocol, "aes_gcm256,aes_gcm128,aes256-sha2_512+sha2_256,aes128-sha2_512+sha2_256")
	case protocol == ike.ESP:
		return d.must(protocol, "aes_gcm256,aes_gcm128,chacha20_poly1305,aes256-sha2_512+sha2_256,aes128-sha2_512+sha2_256")
	case d.V1 && d.old():
		return d.must(protocol, "sha1")
	case d.V1:
		return d.must(protocol, "sha1,sha2_512,sha2_256")
	case d.old():
		return d.must(protocol, "sha2_512+sha2_256+sha1")
	}
	return d.must(protocol, "sha2_512+sha2_256")
}
