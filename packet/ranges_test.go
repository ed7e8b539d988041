package packet_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/packet"
)

// TestRangesOfValues: what values are as ranges, and whether they are one.
func TestRangesOfValues(t *testing.T) {
	for _, c := range []struct {
		v      packet.Values
		ranges [][2]uint64
		one    bool
	}{
		{packet.OneOf(443), [][2]uint64{{443, 443}}, true},
		{packet.OneOf(500, 4500), [][2]uint64{{500, 500}, {4500, 4500}}, false},
		{packet.OneOf(80, 81, 82), [][2]uint64{{80, 82}}, true},
		{packet.Numbers(1024, 2047).Or(packet.Numbers(2040, 3000)), [][2]uint64{{1024, 3000}}, true},
		{packet.Numbers(0, 65535).Minus(packet.OneOf(22)), [][2]uint64{{0, 21}, {23, 65535}}, false},
		{packet.Values{}, nil, false},
	} {
		assert.Equal(t, c.ranges, c.v.Ranges())
		lo, hi, ok := c.v.Bounds()
		assert.Equal(t, c.one, ok)
		if ok {
			assert.Equal(t, c.ranges[0], [2]uint64{lo, hi})
		}
	}
	wide := packet.Addresses(netip.MustParseAddr("2001:db8::"), netip.MustParseAddr("2001:db8::ffff"))
	assert.Nil(t, wide.Ranges(), "numbers of 128 bits are none of 64")
	_, _, ok := wide.Bounds()
	assert.False(t, ok)
}
