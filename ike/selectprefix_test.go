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
		}
	}
}
