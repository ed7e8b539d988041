package libreswan

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

// TestWhatIsWrittenIsReadAgain writes random proposals of all that the daemon has, and its own, and reads them.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	var plain, combined ike.Choices
	for _, name := range slices.Sorted(maps.Keys(ciphers())) {
		if cs := ciphers()[name]; len(cs) == 1 && cs[0].Algorithm.Combined {
			combined = append(combined, cs[0])
		} else if len(cs) == 1 {
			plain = append(plain, cs[0])
		}
	}
	var hashes []hash
	for _, name := range slices.Sorted(maps.Keys(words().hashes)) {
		hashes = append(hashes, words().hashes[name])
	}
	var groups []uint16
	for _, name := range slices.Sorted(maps.Keys(words().groups)) {
		groups = append(groups, words().groups[name])
	}
	pick := func(cs *ike.Choices, c ike.Choice) {
		if !cs.Has(c) {
			*cs = append(*cs, c)
		}
	}
	for i := range 3000 {
		d := Dialect{V1: i%2 == 0, Version: []string{"", "4.10", "5.2"}[i%3]}
		p := ike.Proposal{Protocol: []ike.Protocol{ike.IKE, ike.ESP, ike.AH}[r.IntN(3)]}
		aead := p.Protocol != ike.AH && r.IntN(2) == 0 && !(d.V1 && p.Protocol == ike.IKE)
		from := plain
		if aead {
			from = combined
		}
		for range 1 + r.IntN(3) {
			takes := &parsing{Dialect: d, Proposal: p}
			if c := from[r.IntN(len(from))]; p.Protocol != ike.AH && takes.inProtocol(c.ID) {
				pick(&p.Transforms[ike.Encryption], c)
			}
			h := hashes[r.IntN(len(hashes))]
			if p.Protocol == ike.IKE && (h.prf == 0 || d.V1 && h.prf == 4) {
				h = words().hashes["sha1"]
			}
			if !aead {
				pick(&p.Transforms[ike.Integrity], ike.Pick(ike.Integrity, h.integrity, 0))
			}
			if p.Protocol == ike.IKE {
				pick(&p.Transforms[ike.PRF], ike.Pick(ike.PRF, h.prf, 0))
			}
			if p.Protocol == ike.IKE || r.IntN(2) == 0 {
				if g := groups[r.IntN(len(groups))]; p.Protocol == ike.IKE || !d.V1 || g <= 18 && len(p.Transforms[ike.KeyExchange]) == 0 {
					pick(&p.Transforms[ike.KeyExchange], ike.Pick(ike.KeyExchange, g, 0))
				}
			}
		}
		if len(p.Transforms[ike.Encryption]) == 0 && p.Protocol != ike.AH {
			continue
		}
		again(t, d, p)
	}
	for _, version := range []string{"", "4.3"} {
		for _, v1 := range []bool{false, true} {
			for _, protocol := range []ike.Protocol{ike.IKE, ike.ESP, ike.AH} {
				for _, p := range (Dialect{V1: v1, Version: version}).Default(protocol) {
					again(t, Dialect{V1: v1, Version: version}, p)
				}
			}
		}
	}
}

func again(t *testing.T, d Dialect, p ike.Proposal) {
	t.Helper()
	text, err := d.Write(p)
	require.NoError(t, err, p.Names())
	back, err := d.Proposals(text, p.Protocol)
	require.NoError(t, err, text)
	want := d.expand(p)
	require.Len(t, back, len(want), text)
	for i := range want {
		assert.Equal(t, want[i].Transforms, back[i].Transforms, text)
	}
}

func TestEveryWordIsWrittenAsSomethingThatMeansIt(t *testing.T) {
	for name, cs := range ciphers() {
		for _, c := range cs {
			assert.Equal(t, []ike.Choice{c}, ciphers()[cipherTable().name[size{c.ID, c.KeyBits}]], name)
		}
	}
	for name, h := range words().hashes {
		assert.Equal(t, h.integrity, words().hashes[words().hashName[h.integrity]].integrity, name)
	}
	for name, id := range words().groups {
		assert.Equal(t, id, words().groups[words().groupName[id]], name)
	}
}

func TestWhatTheDaemonCannotSay(t *testing.T) {
	one := func(protocol ike.Protocol, cs ...ike.Choice) ike.Proposal {
		p := ike.Proposal{Protocol: protocol}
		for _, c := range cs {
			p.Transforms[c.Registry] = append(p.Transforms[c.Registry], c)
		}
		return p
	}
	aes, sha, prf := ike.Pick(ike.Encryption, 12, 256), ike.Pick(ike.Integrity, 12, 0), ike.Pick(ike.PRF, 7, 0)
	further := one(ike.IKE, ike.Pick(ike.Encryption, 20, 256), prf)
	further.Transforms[ike.Additional1] = ike.Picks(ike.KeyExchange, 36)
	for want, p := range map[string]ike.Proposal{
		"has no word in ipsec.conf":            one(ike.ESP, ike.Pick(ike.Encryption, 4, 128)),
		"integrity and PRF, and these differ":  one(ike.IKE, aes, sha, prf),
		"Curve448":                             one(ike.ESP, aes, sha, ike.Pick(ike.KeyExchange, 32, 0)),
		"no word for additional key exchanges": further,
		"HMAC-SHA2-256 cut to 96 bits":         one(ike.ESP, aes, ike.Pick(ike.Integrity, 1024, 0)),
	} {
		_, err := Dialect{}.Write(p)
		assert.ErrorContains(t, err, want)
	}
}
