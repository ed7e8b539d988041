package packet

import (
	"encoding/binary"
	"math/bits"
	"net/netip"
)

// number is a 128-bit unsigned integer. Every field of a packet is one: an IPv4 address in the low 32 bits, an IPv6
// address in all 128, a port, a protocol; an interface name as up to sixteen bytes, the first in the highest place, so
// that names that begin alike lie side by side.
type number struct{ hi, lo uint64 }

var largest = number{^uint64(0), ^uint64(0)}

func small(n uint64) number { return number{lo: n} }

func (a number) less(b number) bool { return a.hi < b.hi || a.hi == b.hi && a.lo < b.lo }

func (a number) next() number { // of largest: zero
	lo, carry := bits.Add64(a.lo, 1, 0)
	return number{a.hi + carry, lo}
}

func (a number) prev() number { // of zero: largest
	lo, borrow := bits.Sub64(a.lo, 1, 0)
	return number{a.hi - borrow, lo}
}

func (a number) plus(b number) number {
	lo, carry := bits.Add64(a.lo, b.lo, 0)
	return number{a.hi + b.hi + carry, lo}
}

func (a number) minus(b number) number {
	lo, borrow := bits.Sub64(a.lo, b.lo, 0)
	return number{a.hi - b.hi - borrow, lo}
}

func lower(a, b number) number {
	if b.less(a) {
		return b
	}
	return a
}

func higher(a, b number) number {
	if a.less(b) {
		return b
	}
	return a
}

func fromAddr(a netip.Addr) number {
	if a.Is4() {
		b := a.As4()
		return small(uint64(binary.BigEndian.Uint32(b[:])))
	}
	b := a.As16()
	return number{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

func (a number) addr(f Family) netip.Addr {
	if f == IPv4 {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], uint32(a.lo))
		return netip.AddrFrom4(b)
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], a.hi)
	binary.BigEndian.PutUint64(b[8:], a.lo)
	return netip.AddrFrom16(b)
}

// lastOf returns the last address of a prefix.
func lastOf(p netip.Prefix) number {
	n, host := fromAddr(p.Masked().Addr()), p.Addr().BitLen()-p.Bits()
	switch {
	case host >= 128:
		return largest
	case host >= 64:
		n.hi |= 1<<(host-64) - 1
		n.lo = ^uint64(0)
	default:
		n.lo |= 1<<host - 1
	}
	return n
}
