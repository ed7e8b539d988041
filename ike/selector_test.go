package ike_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

// TestManySelectorsAreReducedAsFewAre, which are held against each other one by one.
func TestManySelectorsAreReducedAsFewAre(t *testing.T) {
	r := rand.New(rand.NewPCG(20261128, 4))
	one := func() ike.Selector {
		s := ike.SelectPrefix(netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(2)), byte(r.IntN(256))}), 16+r.IntN(17)).Masked())
		if r.IntN(8) == 0 {
			s = ike.SelectPrefix(netip.PrefixFrom(netip.AddrFrom16([16]byte{0xfd, 15: byte(r.IntN(4))}), 120+r.IntN(9)).Masked())
		}
		if r.IntN(3) == 0 {
			s.Proto = uint8(6 + 11*r.IntN(2))
			if r.IntN(2) == 0 {
				s.LoPort = uint16(r.IntN(3))
				s.HiPort = s.LoPort + uint16(r.IntN(3))
			}
		}
		return s
	}
	gone := 0
	for range 200 {
		var all, want ike.Selectors
		for range 40 + r.IntN(40) {
			all = append(all, one())
		}
		for i, s := range all {
			if !slices.ContainsFunc(all[:i], func(o ike.Selector) bool { return o.Holds(s) }) &&
				!slices.ContainsFunc(all[i+1:], func(o ike.Selector) bool { return o.Holds(s) && o != s }) {
				want = append(want, s)
			}
		}
		require.Equal(t, want, all.Reduce())
		gone += len(all) - len(want)
	}
	assert.Greater(t, gone, 1000)
}
