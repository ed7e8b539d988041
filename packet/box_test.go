package packet_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/packet"
)

// small are the fields of few values, and how many they have.
var small = map[packet.Field]int{packet.State: 5, packet.Direction: 2, packet.Translated: 4}

// chosen are the values whose bits are set.
func chosen(bits int) (out packet.Values) {
	var ns []uint64
	for n := uint64(0); bits>>n != 0; n++ {
		if bits>>n&1 == 1 {
			ns = append(ns, n)
		}
	}
	if len(ns) == 0 {
		return packet.Values{}
	}
	return packet.OneOf(ns...)
}

// TestFieldsOfFewValues: of every choice of their values the sets say what the choices themselves say.
func TestFieldsOfFewValues(t *testing.T) {
	for f, n := range small {
		whole := 1<<n - 1
		set := func(bits int) packet.Set { return packet.Where(f, chosen(bits)) }
		has := func(s packet.Set) (bits int) {
			for v := range n {
				if s.Overlaps(packet.Where(f, packet.OneOf(uint64(v)))) {
					bits |= 1 << v
				}
			}
			return bits
		}
		assert.True(t, set(whole).Equal(packet.All()), "field %d: all of its values ask for nothing", f)
		assert.True(t, packet.Where(f, packet.OneOf(uint64(n))).Empty(), "field %d has no value %d", f, n)
		for a := 1; a <= whole; a++ {
			require.Equal(t, a, has(set(a)))
			require.Equal(t, whole&^a, has(set(a).Not()))
			assert.True(t, set(a).Values(f, packet.IPv4).Equal(chosen(a)))
			data, err := set(a).MarshalBinary()
			require.NoError(t, err)
			var back packet.Set
			require.NoError(t, back.UnmarshalBinary(data))
			assert.True(t, back.Equal(set(a)))
			for b := 1; b <= whole; b++ {
				require.Equal(t, a&b, has(set(a).And(set(b))), "field %d: %b and %b", f, a, b)
				require.Equal(t, a&b != 0, set(a).Overlaps(set(b)))
				require.Equal(t, a|b, has(set(a).Or(set(b))))
				require.Equal(t, a&^b, has(set(a).Minus(set(b))))
				require.Equal(t, b&^a == 0, set(a).Contains(set(b)))
				require.Equal(t, b, has(set(a).Replace(f, chosen(b))))
			}
		}
	}
}

// TestBoxesShareNoChange: a set that is made of another leaves that as it was, in the fields too that boxes share the room of.
func TestBoxesShareNoChange(t *testing.T) {
	seldom := []packet.Field{packet.Sport, packet.Out, packet.PeerOut, packet.ICMP}
	one := packet.OneOf(3)
	for _, f := range seldom {
		s := packet.Where(f, one).With(packet.Mark, packet.OneOf(1))
		for _, g := range seldom {
			if g == packet.ICMP || f == packet.ICMP && g == packet.Sport {
				continue
			}
			narrower := s.With(g, packet.OneOf(3, 4)).Replace(g, packet.OneOf(9))
			assert.True(t, narrower.Values(g, packet.IPv4).Equal(packet.OneOf(9)), "fields %d and %d", f, g)
			assert.True(t, s.Values(f, packet.IPv4).Equal(one), "field %d is as it was after %d", f, g)
			assert.True(t, narrower.Free(g).Values(g, packet.IPv4).Equal(packet.All().Values(g, packet.IPv4)))
		}
		s.Free(f)
		s.Mirror()
		assert.True(t, s.Values(f, packet.IPv4).Equal(one), "field %d", f)
	}
	there := packet.Where(packet.Sport, packet.OneOf(1)).With(packet.Dport, packet.OneOf(2))
	back := there.Mirror()
	assert.True(t, back.Equal(packet.Where(packet.Sport, packet.OneOf(2)).With(packet.Dport, packet.OneOf(1))))
	assert.True(t, back.Mirror().Equal(there))
}
