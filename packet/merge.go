package packet

import (
	"encoding/binary"
	"hash/maphash"
	"math/bits"
	"slices"
)

// fewBoxes is the number up to which boxes are compared pair by pair to drop those that lie within others.
const fewBoxes = 64

// pairedBoxes is the number up to which boxes are compared pair by pair to find those that become one: so few are not worth a map.
const pairedBoxes = 8

// merge makes a list of boxes shorter without changing the set: boxes within others go, boxes that differ in one field
// only become one. It takes time in proportion to the number of boxes. The list that it is given is used up.
func merge(boxes []box) []box {
	switch len(boxes) {
	case 0, 1:
		return boxes
	case 2: // the commonest case, without a map
		for f := range fields {
			if sameBut(&boxes[0], &boxes[1], f) {
				join(&boxes[0], &boxes[1], f)
				return boxes[:1]
			}
		}
		return dropCovered(boxes)
	}
	if len(boxes) <= pairedBoxes {
		return dropCovered(paired(boxes))
	}
	m := merger{boxes: boxes, hash: make([][fields]uint64, len(boxes)), total: make([]uint64, len(boxes))}
	var used [fields]bool
	for i := range m.boxes {
		for f := range fields {
			m.hash[i][f] = hashField(&m.boxes[i], f)
			m.total[i] ^= m.hash[i][f]
			used[f] = used[f] || m.boxes[i].has>>f&1 != 0
		}
	}
	used[0] = true // boxes that are the same in every field
	for changed := true; changed; {
		changed = false
		for f := range fields {
			changed = used[f] && m.join(f) || changed
		}
	}
	if len(m.boxes) > 1 && len(m.boxes) <= fewBoxes {
		return dropCovered(m.boxes)
	}
	return m.boxes
}

// paired joins few boxes in place, in the order in which merger joins many.
func paired(boxes []box) []box {
	used := uint16(1) // boxes that are the same in every field are joined in the first
	for i := range boxes {
		used |= boxes[i].has
	}
	for changed := true; changed; {
		changed = false
		for left := used; left != 0; left &= left - 1 {
			f, n := Field(bits.TrailingZeros16(left)), 0
			for i := range boxes {
				k := 0
				for k < n && !sameBut(&boxes[k], &boxes[i], f) {
					k++
				}
				if k < n {
					join(&boxes[k], &boxes[i], f)
					changed = true
					continue
				}
				boxes[n] = boxes[i]
				n++
			}
			boxes = boxes[:n]
		}
	}
	return boxes
}

// merger holds boxes beside the hash of each of their fields and the sum of those, so that the hash of a box but for
// one field is one operation.
type merger struct {
	boxes []box
	hash  [][fields]uint64
	total []uint64
}

// join makes one box of all those that differ in f only; it reports whether there were any.
func (m *merger) join(f Field) bool {
	first := make(map[uint64]int, len(m.boxes))
	n := 0
	for i := range m.boxes {
		h := m.total[i] ^ m.hash[i][f]
		k, seen := first[h]
		if seen && sameBut(&m.boxes[k], &m.boxes[i], f) {
			join(&m.boxes[k], &m.boxes[i], f)
			m.hash[k][f] = hashField(&m.boxes[k], f)
			m.total[k] = h ^ m.hash[k][f]
			continue
		}
		if !seen {
			first[h] = n
		}
		m.boxes[n], m.hash[n], m.total[n] = m.boxes[i], m.hash[i], m.total[i]
		n++
	}
	changed := n < len(m.boxes)
	m.boxes = m.boxes[:n]
	return changed
}

func join(a, b *box, f Field) {
	mine, other := a.at(f), b.at(f)
	if mine == nil || other == nil {
		a.free(f)
		return
	}
	if mine != other {
		a.put(f, tidy(slices.Concat(mine.in, other.in)))
	}
}

func sameBut(a, b *box, but Field) bool {
	free := uint16(0) // bits in not that may differ
	if n, is := fewAt(but); is {
		free = allOf[n]
	}
	if a.fam != b.fam || (a.has^b.has)&^(1<<but) != 0 || (a.not^b.not)&^free != 0 {
		return false
	}
	for has := a.has &^ (1<<but | few); has != 0; has &= has - 1 {
		f := Field(bits.TrailingZeros16(has))
		if mine, other := a.at(f), b.at(f); mine != other && !slices.Equal(mine.in, other.in) {
			return false
		}
	}
	return true
}

var hashSeed = maphash.MakeSeed()

func hashField(b *box, f Field) uint64 {
	l := b.at(f)
	if l == nil {
		return uint64(b.fam) * uint64(f+1) // told apart from the others by sameBut
	}
	var h maphash.Hash
	h.SetSeed(hashSeed)
	h.WriteByte(byte(f))
	var buf [32]byte
	for _, iv := range l.in {
		binary.LittleEndian.PutUint64(buf[0:], iv.lo.hi)
		binary.LittleEndian.PutUint64(buf[8:], iv.lo.lo)
		binary.LittleEndian.PutUint64(buf[16:], iv.hi.hi)
		binary.LittleEndian.PutUint64(buf[24:], iv.hi.lo)
		h.Write(buf[:])
	}
	return h.Sum64()
}

// dropCovered takes those of few boxes out of the list that lie within others.
func dropCovered(boxes []box) []box {
	var gone [fewBoxes]bool
	for i := range boxes {
		gone[i] = covered(boxes, i)
	}
	n := 0
	for i := range boxes {
		if !gone[i] {
			boxes[n] = boxes[i]
			n++
		}
	}
	return boxes[:n]
}

// covered reports whether another box holds the one at i; of boxes that are the same the first stays.
func covered(boxes []box, i int) bool {
	for j := range boxes {
		if i != j && boxes[j].holds(&boxes[i]) && (j < i || !boxes[i].holds(&boxes[j])) {
			return true
		}
	}
	return false
}
