package packet_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/packet"
)

// universe is small enough to be tried whole: every packet of it is asked whether it is in a set.
func universe() []packet.Packet {
	var out []packet.Packet
	for _, fam := range []packet.Family{packet.IPv4, packet.IPv6} {
		addr := func(n byte) netip.Addr {
			if fam == packet.IPv4 {
				return netip.AddrFrom4([4]byte{10, 0, 0, n})
			}
			return netip.AddrFrom16([16]byte{0: 0xfd, 15: n})
		}
		for src := range byte(4) {
			for dst := range byte(4) {
				for _, proto := range []uint8{1, 6, 50, 58} {
					for port := range uint16(3) {
						if port > 0 && proto != 6 {
							continue
						}
						for in := range 2 {
							for peer := range 2 {
								p := packet.Packet{
									Family: fam,
									Src:    addr(src),
									Dst:    addr(dst),
									Proto:  proto,
									Dport:  port,
									In:     []string{"lan", "wan0"}[in],
									State:  uint64(port),
								}
								if peer == 1 {
									p.PeerOut = netip.MustParseAddr("192.0.2.1")
								}
								out = append(out, p)
							}
						}
					}
				}
			}
		}
	}
	return out
}

// randomSet builds a set and, beside it, the same thing as a predicate.
func randomSet(r *rand.Rand, depth int) (packet.Set, func(packet.Packet) bool) {
	if depth > 0 {
		a, fa := randomSet(r, depth-1)
		b, fb := randomSet(r, depth-1)
		switch r.IntN(4) {
		case 0:
			return a.Or(b), func(p packet.Packet) bool { return fa(p) || fb(p) }
		case 1:
			return a.And(b), func(p packet.Packet) bool { return fa(p) && fb(p) }
		case 2:
			return a.Minus(b), func(p packet.Packet) bool { return fa(p) && !fb(p) }
		default:
			return a.Not(), func(p packet.Packet) bool { return !fa(p) }
		}
	}
	n := r.IntN(4)
	switch r.IntN(8) {
	case 0:
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(n)}), 30+r.IntN(3))
		return packet.Prefixes(packet.Src, p), func(q packet.Packet) bool { return p.Contains(q.Src) }
	case 1:
		lo, hi := netip.AddrFrom16([16]byte{0: 0xfd, 15: byte(n)}), netip.AddrFrom16([16]byte{0: 0xfd, 15: byte(n + r.IntN(2))})
		return packet.Range(packet.Dst, lo, hi), func(q packet.Packet) bool { return q.Dst.Compare(lo) >= 0 && q.Dst.Compare(hi) <= 0 }
	case 2:
		v := packet.OneOf(6, 50)
		return packet.Where(packet.Proto, v), func(q packet.Packet) bool { return q.Proto == 6 || q.Proto == 50 }
	case 3:
		k := uint64(r.IntN(3))
		return packet.Where(packet.Dport, packet.Numbers(k, k+1)), func(q packet.Packet) bool {
			return q.Proto == 6 && uint64(q.Dport) >= k && uint64(q.Dport) <= k+1
		}
	case 4:
		return packet.Where(packet.In, packet.Name("wan*")), func(q packet.Packet) bool { return q.In == "wan0" }
	case 5:
		return packet.Where(packet.PeerOut, packet.Numbers(0, 0)), func(q packet.Packet) bool { return !q.PeerOut.IsValid() }
	case 6:
		return packet.Where(packet.State, packet.OneOf(0, 2)), func(q packet.Packet) bool { return q.State != 1 }
	default:
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(n)}), 31)
		return packet.Prefixes(packet.Dst, p), func(q packet.Packet) bool { return p.Contains(q.Dst) }
	}
}

func TestAlgebraAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	all := universe()
	for range 400 {
		s, in := randomSet(r, 3)
		u, inU := randomSet(r, 2)
		var overlap, onlyU bool
		for _, p := range all {
			require.Equal(t, in(p), s.Has(p), "%v in %v", p, s)
			overlap = overlap || in(p) && inU(p)
			onlyU = onlyU || inU(p) && !in(p)
		}
		if overlap {
			assert.True(t, s.Overlaps(u))
			assert.False(t, s.And(u).Empty())
		}
		if onlyU {
			assert.False(t, s.Contains(u))
		}
		assert.Equal(t, s.Overlaps(u), !s.And(u).Empty())
		assert.True(t, s.Or(u).Contains(u))
		assert.True(t, s.Equal(s.Minus(u).Or(s.And(u))))
		assert.True(t, s.Not().Not().Equal(s))
		assert.True(t, s.Minus(s).Empty())
		assert.True(t, packet.Union(s.Parts()...).Equal(s))
		if w, ok := s.Witness(); ok {
			assert.True(t, s.Has(w), "%+v is not in %v", w, s)
		} else {
			assert.True(t, s.Empty())
		}
	}
}

// TestShortcutsSayTheSame: what is done in one step is what it would be in several.
func TestShortcutsSayTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	some := []packet.Field{packet.In, packet.PeerOut, packet.State, packet.Mark, packet.Dport}
	for range 400 {
		s, _ := randomSet(r, 3)
		u, _ := randomSet(r, 1)
		forget := some[:r.IntN(len(some)+1)]
		assert.True(t, s.Mirror(forget...).Equal(s.Mirror().Free(forget...)), "%v without %v", s, forget)
		assert.True(t, packet.Union(s, u).Equal(s.Or(u)))
		assert.True(t, packet.Union(packet.None(), u, packet.None()).Equal(u))
		f := some[r.IntN(len(some)-1)] // of the others a value says more of the packet
		v := packet.Numbers(uint64(r.IntN(3)), uint64(r.IntN(5)))
		assert.True(t, s.Replace(f, v).Equal(s.Free(f).And(packet.All().With(f, v))), "%v of %v in %v", v, f, s)
		whole := s.Free(packet.Mark)
		assert.Equal(t, whole.String(), s.Replace(packet.Mark, packet.Numbers(0, 1<<32-1)).String(), "every value is no condition")
		assert.Equal(t, whole.String(), s.Replace(packet.Mark, packet.Numbers(0, 1<<40)).String(), "nor is more than there are")
	}
}

// TestRangesOfAddresses: a range is what packets with the addresses of its family are, of addresses of peers whatever the family.
func TestRangesOfAddresses(t *testing.T) {
	for _, c := range [][2]string{
		{"10.0.0.1", "10.0.0.1"}, {"10.0.0.1", "10.0.0.9"}, {"0.0.0.0", "255.255.255.255"}, {"0.0.0.0", "0.0.0.0"},
		{"10.0.0.9", "10.0.0.1"}, {"2001:db8::1", "2001:db8::1"}, {"::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"},
		{"2001:db8::2", "2001:db8::1"}, {"10.0.0.1", "::1"}, {"::ffff:10.0.0.1", "10.0.0.2"},
	} {
		lo, hi := netip.MustParseAddr(c[0]).Unmap(), netip.MustParseAddr(c[1]).Unmap()
		for _, f := range []packet.Field{packet.Src, packet.Dst, packet.PeerIn, packet.PeerOut} {
			want := packet.Where(f, packet.Addresses(lo, hi))
			switch {
			case lo.Is4() != hi.Is4():
				want = packet.None()
			case f == packet.PeerIn || f == packet.PeerOut:
			case lo.Is4():
				want = want.And(packet.Only(packet.IPv4))
			default:
				want = want.And(packet.Only(packet.IPv6))
			}
			got := packet.Range(f, lo, hi)
			assert.True(t, want.Equal(got), "%v of %v", f, c)
			assert.Equal(t, want.String(), got.String(), "%v of %v", f, c)
		}
	}
}

func TestMirrorAndReplace(t *testing.T) {
	a, b := netip.MustParsePrefix("10.1.0.0/24"), netip.MustParsePrefix("10.2.0.0/24")
	s := packet.Prefixes(packet.Src, a).And(packet.Prefixes(packet.Dst, b)).With(packet.Dport, packet.Numbers(443, 443))
	m := s.Mirror()
	assert.Equal(t, []netip.Prefix{b}, m.Prefixes(packet.Src))
	assert.True(t, m.Mirror().Equal(s))
	assert.True(t, m.Values(packet.Sport, packet.IPv4).Has(443))

	nat := s.Replace(packet.Src, packet.Prefix(netip.MustParsePrefix("192.0.2.1/32")))
	assert.Equal(t, "192.0.2.1 > 10.2.0.0/24 port 443", nat.String())
	moved := s.Shift(packet.Src, a, netip.MustParsePrefix("10.9.0.0/24"))
	assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("10.9.0.0/24")}, moved.Prefixes(packet.Src))
	assert.True(t, s.Free(packet.Dport).Contains(s))
}

func TestDescriptions(t *testing.T) {
	lan := packet.Prefixes(packet.Src, netip.MustParsePrefix("10.1.0.0/16"))
	for want, s := range map[string]packet.Set{
		"no packets":        packet.None(),
		"all packets":       packet.All(),
		"10.1.0.0/16 > any": lan,
		"10.1.0.0/16 > any tcp port not 22": lan.With(packet.Proto, packet.OneOf(6)).With(packet.Dport,
			packet.Numbers(0, 21).Or(packet.Numbers(23, 65535))),
		"10.1.0.0/16 > any in on any but lan": lan.Minus(packet.Where(packet.In, packet.Name("lan"))),
		"10.1.0.0/16 > any to be encrypted":   lan.Minus(packet.Where(packet.PeerOut, packet.Numbers(0, 0))),
		"10.1.0.0/16 > any icmp type 8/0":     lan.With(packet.ICMP, packet.Numbers(8<<8, 8<<8)).With(packet.Proto, packet.OneOf(1)),
		"any > 10.0.0.3-10.0.0.17":            packet.Range(packet.Dst, netip.MustParseAddr("10.0.0.3"), netip.MustParseAddr("10.0.0.17")),
		"any > 10.0.0.0/8 in on eth* new": packet.Prefixes(packet.Dst, netip.MustParsePrefix("10.0.0.0/8")).With(packet.In,
			packet.Name("eth*")).With(packet.State, packet.OneOf(packet.New)),
		"any > fd00::/8 mark 0x1": packet.Prefixes(packet.Dst, netip.MustParsePrefix("fd00::/8")).With(packet.Mark,
			packet.OneOf(1)),
		"any IPv4 from port 53": packet.Only(packet.IPv4).With(packet.Sport, packet.OneOf(53)),
		"any IPv6 not icmpv6":   packet.Only(packet.IPv6).Minus(packet.Where(packet.Proto, packet.OneOf(58))),
		"10.0.0.1 > any; 10.0.0.3 > any tcp": packet.Prefixes(packet.Src,
			netip.MustParsePrefix("10.0.0.1/32")).Or(packet.Prefixes(packet.Src, netip.MustParsePrefix("10.0.0.3/32")).With(packet.Proto,
			packet.OneOf(6))),
	} {
		assert.Equal(t, want, s.String())
	}
}

func TestPrefixesOfRanges(t *testing.T) {
	for _, c := range []struct{ lo, hi, want string }{
		{"10.0.0.1", "10.0.0.6", "[10.0.0.1/32 10.0.0.2/31 10.0.0.4/31 10.0.0.6/32]"},
		{"0.0.0.0", "255.255.255.255", "[0.0.0.0/0]"},
		{"::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "[::/0]"},
		{"fd00::", "fd00::ffff:ffff:ffff:ffff", "[fd00::/64]"},
		{"255.255.255.254", "255.255.255.255", "[255.255.255.254/31]"},
	} {
		s := packet.Range(packet.Src, netip.MustParseAddr(c.lo), netip.MustParseAddr(c.hi))
		assert.Equal(t, c.want, fmt.Sprint(s.Prefixes(packet.Src)))
		assert.True(t, packet.Prefixes(packet.Src, s.Prefixes(packet.Src)...).Equal(s))
	}
}

func TestMaskedAgainstBruteForce(t *testing.T) {
	_, ok := packet.Masked(1, 0x80000001)
	assert.False(t, ok, "thirty free bits are too many")
	none, ok := packet.Masked(3, 1)
	assert.True(t, ok && none.Empty(), "3 is never n&1")
	v, ok := packet.Masked(0x00010000, 0xffff0000)
	require.True(t, ok)
	assert.True(t, v.Equal(packet.Numbers(0x10000, 0x1ffff)))
	v, ok = packet.Masked(0x80000001, 0xfffffff1)
	require.True(t, ok)
	for n := range uint64(64) {
		assert.Equal(t, (0x80000000+n)&0xfffffff1 == 0x80000001, v.Has(0x80000000+n), n)
	}
}

func TestTheLimitIsAnErrorAndNotAnAnswer(t *testing.T) {
	err := packet.Guard(func() {
		s := packet.All()
		for i := range 200 { // each cut leaves more pieces than it found
			a := netip.AddrFrom4([4]byte{10, byte(i), 0, 1})
			one := packet.Range(packet.Src, a, a).With(packet.Mark, packet.OneOf(uint64(3*i), uint64(7*i)))
			two := packet.Range(packet.Dst, a, a).With(packet.Sport, packet.OneOf(uint64(5*i)))
			s = s.Minus(one.Or(two).With(packet.Dport, packet.OneOf(uint64(11*i))))
		}
	})
	assert.ErrorIs(t, err, packet.ErrLimit)
	assert.Panics(t, func() { _ = packet.Guard(func() { panic("other") }) })
}

func TestNames(t *testing.T) {
	v := packet.Name("eth*").Minus(packet.Name("eth0"))
	assert.True(t, v.HasName("eth1"))
	assert.True(t, v.HasName("eth0.100"))
	assert.False(t, v.HasName("eth0"))
	assert.False(t, v.HasName("et"))
	assert.True(t, packet.Name("an-interface-with-a-long-name").HasName("an-interface-with-a-long-name"))
	assert.False(t, packet.Name("an-interface-with-a-long-name").HasName("an-interface-with-a-long-nam2"))
}

func FuzzPrefixes(f *testing.F) {
	f.Add([]byte{10, 0, 0, 1}, []byte{10, 0, 0, 9})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		lo, ok1 := netip.AddrFromSlice(a)
		hi, ok2 := netip.AddrFromSlice(b)
		if !ok1 || !ok2 {
			return
		}
		s := packet.Range(packet.Src, lo, hi)
		if !packet.Prefixes(packet.Src, s.Prefixes(packet.Src)...).Equal(s) {
			t.Fatalf("%v-%v came back as %v", lo, hi, s.Prefixes(packet.Src))
		}
	})
}

func TestARecordOfASet(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 17))
	named := packet.Where(packet.In, packet.Name("wan0")).Not()
	for _, s := range []packet.Set{packet.None(), packet.All(), named, randomRule(r), randomRule(r)} {
		data, err := s.MarshalBinary()
		require.NoError(t, err)
		var back packet.Set
		require.NoError(t, back.UnmarshalBinary(data))
		assert.True(t, s.Equal(back), "%v", s)
		assert.Equal(t, s.String(), back.String())
		for cut := range data {
			assert.Error(t, back.UnmarshalBinary(data[:cut]), "%v cut at %d", s, cut)
		}
		assert.Error(t, back.UnmarshalBinary(append(data, 0)))
	}
}

func FuzzARecordOfASet(f *testing.F) {
	data, _ := packet.Where(packet.Dport, packet.OneOf(1, 500)).MarshalBinary()
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		var s packet.Set
		if s.UnmarshalBinary(data) == nil {
			again, err := s.MarshalBinary()
			require.NoError(t, err)
			var back packet.Set
			require.NoError(t, back.UnmarshalBinary(again))
		}
	})
}

func TestManyTermsInOneStep(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 26))
	terms := []packet.Term{
		{Family: packet.IPv4, Field: packet.Src, Values: packet.Prefix(netip.MustParsePrefix("10.0.0.0/9"))},
		{Family: packet.IPv4, Field: packet.Src, Values: packet.Prefix(netip.MustParsePrefix("10.64.0.0/10"))},
		{Family: packet.IPv6, Field: packet.Dst, Values: packet.Prefix(netip.MustParsePrefix("fd00::/16"))},
		{Field: packet.Proto, Values: packet.OneOf(6)},
		{Field: packet.Dport, Values: packet.Numbers(22, 500)},
		{Field: packet.Sport, Values: packet.OneOf(80, 443)},
		{Field: packet.ICMP, Values: packet.Numbers(8<<8, 8<<8|255)},
		{Field: packet.In, Values: packet.Name("wan*")},
		{Field: packet.State, Values: packet.Numbers(0, packet.Untracked)}, // all there are
		{Field: packet.Mark},
	}
	for range 2000 {
		start, _ := randomSet(r, 2)
		var some []packet.Term
		want := start
		for range r.IntN(5) {
			one := terms[r.IntN(len(terms))]
			some = append(some, one)
			if one.Family != 0 {
				want = want.And(packet.Only(one.Family))
			}
			want = want.With(one.Field, one.Values)
		}
		assert.True(t, want.Equal(start.WithAll(some...)), "%v with %v: %v", start, some, want)
	}
}
