package ike_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/ike"
	"toril/packet"
)

// TestSelectPrefix: a network's selector holds its addresses and no others, in both families and of every length.
func TestSelectPrefix(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for bits := range 129 {
		var raw [16]byte
		for i := range raw {
			raw[i] = byte(r.IntN(256))
		}
		all := []netip.Prefix{netip.PrefixFrom(netip.AddrFrom16(raw), bits)}
		if bits <= 32 {
			all = append(all, netip.PrefixFrom(netip.AddrFrom4([4]byte(raw[:4])), bits))
		}
		for _, p := range all {
			s := ike.SelectPrefix(p)
			assert.Equal(t, p.Masked().Addr(), s.Lo, p)
			assert.True(t, p.Contains(s.Hi), p)
			if next := s.Hi.Next(); next.IsValid() {
				assert.False(t, p.Contains(next), "%s: %s is the last", p, s.Hi)
			}
			set := packet.Range(packet.Src, s.Lo, s.Hi)
			assert.True(t, set.Equal(packet.Prefixes(packet.Src, p)), fmt.Sprint(p))
			assert.Equal(t, bits == 0, s.AnyAddress(), p)
			back, ok := s.Prefix()
			assert.True(t, ok, p)
			assert.Equal(t, p.Masked(), back)
			for _, shifted := range []ike.Selector{{Lo: s.Lo.Next(), Hi: s.Hi}, {Lo: s.Lo, Hi: s.Hi.Next()}} {
				if shifted.Lo.IsValid() && shifted.Hi.IsValid() && bits < p.Addr().BitLen()-1 { // two addresses less one are a network
					_, ok := shifted.Prefix()
					assert.False(t, ok, shifted)
				}
			}
		}
	}
}

// TestNoPrefix: what is no network of known addresses is none.
func TestNoPrefix(t *testing.T) {
	for _, s := range []ike.Selector{
		{},
		{Dynamic: true},
		{Lo: netip.MustParseAddr("10.0.0.1"), Hi: netip.MustParseAddr("10.0.0.2")},
		{Lo: netip.MustParseAddr("10.0.0.0"), Hi: netip.MustParseAddr("fd00::")},
	} {
		_, ok := s.Prefix()
		assert.False(t, ok, s)
	}
}

// TestPRFOf: the PRF is of the hash, or of the cipher, that the integrity algorithm is of.
func TestPRFOf(t *testing.T) {
	for integrity, want := range map[string]string{
		"AUTH_HMAC_MD5_96":       "PRF_HMAC_MD5",
		"AUTH_HMAC_SHA1_96":      "PRF_HMAC_SHA1",
		"AUTH_HMAC_SHA2_256_128": "PRF_HMAC_SHA2_256",
		"AUTH_HMAC_SHA2_384_192": "PRF_HMAC_SHA2_384",
		"AUTH_HMAC_SHA2_512_256": "PRF_HMAC_SHA2_512",
		"AUTH_AES_XCBC_96":       "PRF_AES128_XCBC",
		"AUTH_AES_CMAC_96":       "PRF_AES128_CMAC",
	} {
		prf, ok := ike.PRFOf(ike.Choice{Algorithm: ike.ByName(ike.Integrity, integrity)})
		assert.True(t, ok, integrity)
		assert.Equal(t, ike.ByName(ike.PRF, want).ID, prf.ID)
	}
	_, ok := ike.PRFOf(ike.Pick(ike.Integrity, 9, 0)) // AUTH_AES_128_GMAC
	assert.False(t, ok)
}
