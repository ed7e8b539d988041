package packet_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/packet"
)

// randomRule is a set as rules have it: small networks that often meet.
func randomRule(r *rand.Rand) packet.Set {
	s := packet.Only(packet.IPv4)
	if r.IntN(10) == 0 {
		return packet.Only(packet.IPv6).With(packet.Dport, packet.OneOf(uint64(r.IntN(3))))
	}
	net := func(f packet.Field) {
		if r.IntN(4) > 0 {
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(r.IntN(16))}), 28+r.IntN(5)).Masked()
			s = s.And(packet.Prefixes(f, p))
		}
	}
	net(packet.Src)
	net(packet.Dst)
	if r.IntN(2) == 0 {
		lo := uint64(r.IntN(4))
		s = s.With(packet.Proto, packet.OneOf(6)).With(packet.Dport, packet.Numbers(lo, lo+uint64(r.IntN(3))))
	}
	if r.IntN(5) == 0 {
		s = packet.Only(packet.IPv4).Minus(s)
	}
	return s
}

// The index must say what plain set algebra says.
func TestIndexAgainstTheAlgebra(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	covered, refuted := 0, 0
	for n := range 150 {
		sets := make([]packet.Set, []int{12, 12, 12, 12, 12, 12, 12, 12, 12, 150}[n%10]) // few are compared one by one, many looked up
		for i := range sets {
			sets[i] = randomRule(r)
		}
		x := packet.NewIndex(sets)
		for i := range sets {
			before := packet.Union(sets[:i]...)
			by, ok, err := around(t, x, i).Covered(func(j int) bool { return j < i })
			require.NoError(t, err)
			assert.Equal(t, before.Contains(sets[i]) && !sets[i].Empty(), ok, "%v in %v", sets[i], before)
			if ok {
				covered++
				var named []packet.Set
				for _, j := range by {
					assert.Less(t, j, i)
					named = append(named, sets[j])
				}
				assert.True(t, packet.Union(named...).Contains(sets[i]), "those that are named are enough")
			}
			first := -1
			for j := i + 1; j < len(sets) && first < 0; j++ {
				if sets[j].Overlaps(sets[i]) {
					first = j
				}
			}
			assert.Equal(t, first, around(t, x, i).First(func(j int) bool { return j > i }))
			assert.Equal(t, first, x.Next(i, len(sets)))
			if first > i+2 {
				first = -1
			}
			assert.Equal(t, first, x.Next(i, 2))
			may, err := x.Corners(i, func(j int) bool { return j < i }, new(packet.Room))
			require.NoError(t, err)
			assert.True(t, may || !ok, "%v in %v", sets[i], before)
			if !may {
				refuted++
			}
		}
	}
	assert.Greater(t, covered, 100, "the samples are worth something")
	assert.Greater(t, refuted, 100)
}

func around(t *testing.T, x *packet.Index, i int) packet.Around {
	t.Helper()
	a, err := x.Around(i, new(packet.Room))
	require.NoError(t, err)
	return a
}

func TestIndexOfNothing(t *testing.T) {
	x := packet.NewIndex([]packet.Set{packet.None(), packet.All()})
	_, ok, err := around(t, x, 0).Covered(func(int) bool { return true })
	assert.False(t, ok)
	assert.NoError(t, err)
	_, ok, _ = around(t, x, 1).Covered(func(int) bool { return true })
	assert.False(t, ok)
}

func BenchmarkIndex(b *testing.B) {
	for _, n := range []int{1000, 10_000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			sets := make([]packet.Set, n)
			for i := range sets {
				src := netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
				dst := netip.AddrFrom4([4]byte{172, 16, byte(i >> 4), byte(i)})
				sets[i] = packet.Range(packet.Src, src, src).
					And(packet.Range(packet.Dst, dst, dst)).
					With(packet.Proto, packet.OneOf(6)).
					With(packet.Dport, packet.OneOf(uint64(i%1000+1)))
			}
			for b.Loop() {
				x, room := packet.NewIndex(sets), new(packet.Room)
				for i := range sets {
					a, err := x.Around(i, room)
					if err == nil {
						_, _, err = a.Covered(func(j int) bool { return j < i })
					}
					if err != nil {
						b.Fatal(err)
					}
				}
			}
		})
	}
}

// An index of one family is asked about the other, and about both.
func TestIndexOfOneFamily(t *testing.T) {
	four, six := make([]packet.Set, 300), make([]packet.Set, 300)
	for i := range four {
		four[i] = packet.Prefixes(packet.Dst, netip.MustParsePrefix(fmt.Sprintf("10.1.%d.0/24", i%250)))
		six[i] = packet.Prefixes(packet.Dst, netip.MustParsePrefix(fmt.Sprintf("2001:db8:%x::/48", i)))
	}
	for _, c := range []struct {
		sets []packet.Set
		one  packet.Set
	}{{four, six[0]}, {six, four[0]}} {
		x := packet.NewIndex(c.sets)
		assert.Empty(t, x.Meeting(c.one))
		assert.Empty(t, x.Meeting(c.one.With(packet.Proto, packet.OneOf(6))))
		assert.Equal(t, x.Meeting(c.sets[7]), x.Meeting(c.sets[7].Or(c.one)))
		assert.Len(t, x.Order(), len(c.sets))
	}
}

// Every set has its turn, those with many boxes once.
func TestOrderIsOfAllSets(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	for _, n := range []int{0, 1, 40, 1000} {
		sets, want := make([]packet.Set, n), make([]int, n)
		for i := range sets {
			want[i] = i
			switch sets[i] = randomRule(r); i % 5 {
			case 0:
				sets[i] = packet.None()
			case 1:
				sets[i] = sets[i].Or(randomRule(r)).Or(randomRule(r))
			}
		}
		order := packet.NewIndex(sets).Order()
		if n == 40 {
			assert.Equal(t, want, order, "few are asked one after the other")
		}
		slices.Sort(order)
		assert.Equal(t, want, order)
	}
}

// Meeting must name every set that meets one, and, as far as the fields that it looks at tell, no other.
func TestMeetingAgainstTheAlgebra(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 13))
	for _, n := range []int{0, 3, 40, 400} {
		sets := make([]packet.Set, n)
		for i := range sets {
			if sets[i] = randomRule(r); r.IntN(3) == 0 {
				sets[i] = sets[i].With(packet.Mark, packet.OneOf(uint64(r.IntN(2))))
			}
		}
		x := packet.NewIndex(sets)
		for range 60 {
			asked := randomRule(r)
			if r.IntN(2) == 0 {
				asked = asked.With(packet.Mark, packet.OneOf(0))
			}
			var exact, free []int
			for i, s := range sets {
				if s.Overlaps(asked) {
					exact = append(exact, i)
				}
				if s.Free(packet.Mark).Overlaps(asked) {
					free = append(free, i)
				}
			}
			assert.Equal(t, exact, x.Meeting(asked), "%v", asked)
			assert.Equal(t, free, x.Meeting(asked, packet.Mark), "%v, whatever its mark", asked)
		}
	}
}

// Spans that lie within each other are looked up otherwise than those that cross.
func TestMeetingOfNetworksAndOfRanges(t *testing.T) {
	r := rand.New(rand.NewPCG(20261128, 3))
	four := func() netip.Addr { return netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(4)), byte(r.IntN(256))}) }
	six := func() netip.Addr {
		return netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0, 0, byte(r.IntN(4)), byte(r.IntN(256)), 15: byte(r.IntN(2))})
	}
	for name, one := range map[string]func() packet.Set{
		"networks": func() packet.Set {
			return packet.Prefixes(packet.Src, netip.PrefixFrom(four(), r.IntN(33)).Masked())
		},
		"networks of IPv6": func() packet.Set {
			return packet.Prefixes(packet.Src, netip.PrefixFrom(six(), []int{0, 32, 50, 56, 60, 64, 100, 128}[r.IntN(8)]).Masked())
		},
		"ranges": func() packet.Set {
			lo, hi := four(), four()
			if hi.Less(lo) {
				lo, hi = hi, lo
			}
			return packet.Range(packet.Src, lo, hi)
		},
		"hosts": func() packet.Set { a := four(); return packet.Range(packet.Src, a, a) },
	} {
		sets := make([]packet.Set, 500)
		for i := range sets {
			sets[i] = one()
		}
		x := packet.NewIndex(sets)
		for _, asked := range sets {
			var want []int
			for i, s := range sets {
				if s.Overlaps(asked) {
					want = append(want, i)
				}
			}
			require.Equal(t, want, x.Meeting(asked), "%s: %v", name, asked)
		}
	}
}
