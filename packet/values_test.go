package packet_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/packet"
)

// some makes random values between 0 and 63, and their members one by one.
func some(r *rand.Rand) (packet.Values, [64]bool) {
	var v packet.Values
	var in [64]bool
	for range r.IntN(5) {
		lo := r.IntN(64)
		hi := min(63, lo+r.IntN(12))
		v = v.Or(packet.Numbers(uint64(lo), uint64(hi)))
		for n := lo; n <= hi; n++ {
			in[n] = true
		}
	}
	return v, in
}

func TestValuesAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	empty := 0
	for range 3000 {
		v, a := some(r)
		w, b := some(r)
		both, either, less := v.And(w), v.Or(w), v.Minus(w)
		any := false
		for n := range uint64(64) {
			assert.Equal(t, a[n] && b[n], both.Has(n))
			assert.Equal(t, a[n] || b[n], either.Has(n))
			assert.Equal(t, a[n] && !b[n], less.Has(n))
			any = any || a[n]
		}
		assert.Equal(t, !any, v.Empty())
		if v.Empty() {
			empty++
		}
		assert.Equal(t, a == b, v.Equal(w))
		assert.True(t, v.Equal(both.Or(less)), "what is taken apart can be put together")
		below, above := v.Split(w)
		if w.Empty() { // all of v lies below nothing, and above it
			assert.True(t, below.Equal(v) && above.Equal(v))
			continue
		}
		assert.True(t, below.And(above).Empty())
		assert.True(t, below.Or(above).And(w).Empty())
	}
	assert.Positive(t, empty, "nothing at all is among the samples")
}

func TestSingle(t *testing.T) {
	n, ok := packet.OneOf(5).Single()
	assert.True(t, ok)
	assert.EqualValues(t, 5, n)
	_, ok = packet.OneOf(5, 7).Single()
	assert.False(t, ok)
	_, ok = packet.Numbers(5, 6).Single()
	assert.False(t, ok)
	assert.Equal(t, "22, 500-510", packet.Join(packet.OneOf(22), packet.Numbers(500, 510)).String())
	assert.Equal(t, "0x20010db8000000000000000000000001", packet.Prefix(netip.MustParsePrefix("2001:db8::1/128")).String())
	_, ok = packet.Values{}.Single()
	assert.False(t, ok)
}

func TestJoin(t *testing.T) {
	assert.True(t, packet.Join().Empty())
	assert.True(t, packet.Numbers(1, 9).Equal(packet.Join(packet.Numbers(4, 9), packet.Numbers(1, 5))))
}

func TestPrefixValues(t *testing.T) {
	v := packet.Prefix(netip.MustParsePrefix("10.1.0.0/24"))
	assert.True(t, v.Equal(packet.Addresses(netip.MustParseAddr("10.1.0.0"), netip.MustParseAddr("10.1.0.255"))))
	assert.Equal(t, "10.1.0.0/24", packet.Spell(v, packet.IPv4))
}

func TestProtocolNames(t *testing.T) {
	for name, n := range map[string]uint64{"icmp": 1, "tcp": 6, "udp": 17, "gre": 47, "esp": 50, "ah": 51, "icmpv6": 58, "ipv6-icmp": 58,
		"ospf": 89, "sctp": 132, "TCP": 6} {
		got, ok := packet.ProtoNumber(name)
		assert.True(t, ok, name)
		assert.Equal(t, n, got, name)
	}
	_, ok := packet.ProtoNumber("nothing")
	assert.False(t, ok)
	for n := range uint64(256) {
		name := packet.ProtoName(n)
		require.NotEmpty(t, name)
		if back, ok := packet.ProtoNumber(name); ok {
			assert.Equal(t, n, back, name)
		}
	}
}

func TestPackets(t *testing.T) {
	p := packet.Packet{
		Family: packet.IPv4,
		Src:    netip.MustParseAddr("10.1.0.5"),
		Dst:    netip.MustParseAddr("10.2.0.9"),
		Proto:  6,
		Sport:  50000,
		Dport:  443,
		In:     "lan",
		State:  packet.New,
	}
	assert.Equal(t, "tcp 10.1.0.5:50000 > 10.2.0.9:443", p.String())
	assert.True(t, p.Set().Has(p))
	w, ok := p.Set().Witness()
	require.True(t, ok)
	assert.Equal(t, p, w, "the only packet of its set")
	other := p
	other.Dport = 80
	assert.False(t, p.Set().Has(other))
	ping := packet.Packet{Family: packet.IPv4, Src: p.Src, Dst: p.Dst, Proto: 1, ICMP: 8 << 8}
	assert.Equal(t, "icmp 10.1.0.5 > 10.2.0.9 type 8", ping.String())
	six := packet.Packet{
		Family: packet.IPv6,
		Src:    netip.MustParseAddr("2001:db8::1"),
		Dst:    netip.MustParseAddr("2001:db8::2"),
		Proto:  17,
		Sport:  500,
		Dport:  500,
	}
	assert.Equal(t, "udp [2001:db8::1]:500 > [2001:db8::2]:500", six.String())
}

func TestContainsInItsShortWays(t *testing.T) {
	net := func(s string) packet.Set { return packet.Prefixes(packet.Src, netip.MustParsePrefix(s)) }
	halves := net("10.0.0.0/9").Or(net("10.128.0.0/9"))
	assert.True(t, halves.Contains(net("10.0.0.0/8")), "two halves hold the whole")
	assert.True(t, net("10.0.0.0/8").Contains(halves))
	assert.False(t, net("10.0.0.0/9").Contains(net("10.0.0.0/8")))
	assert.False(t, net("10.0.0.0/8").Contains(net("11.0.0.0/8")))
	assert.True(t, net("10.0.0.0/8").Contains(packet.None()))
	assert.False(t, packet.None().Contains(net("10.0.0.0/8")))
	crossed := net("10.0.0.0/8").With(packet.Proto, packet.OneOf(6)).Or(net("10.0.0.0/9"))
	assert.False(t, crossed.Contains(net("10.0.0.0/8")), "together they leave a corner out")
	assert.True(t, crossed.Contains(net("10.128.0.0/9").With(packet.Proto, packet.OneOf(6))))
}

func TestGuardLetsOtherPanicsThrough(t *testing.T) {
	assert.NoError(t, packet.Guard(func() {}))
	assert.ErrorIs(t, packet.Guard(func() { panic(packet.TooComplex()) }), packet.ErrLimit)
	assert.PanicsWithValue(t, "ours", func() { _ = packet.Guard(func() { panic("ours") }) })
}
