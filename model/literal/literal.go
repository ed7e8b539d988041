// Package literal reads the values that the formats of packet filters and routers share: addresses, ports, protocols,
// types of ICMP, targets of translations.
package literal

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"toril/model"
	"toril/packet"
)

// Addresses reads an address, network or range of a family; "*" is every address.
func Addresses(s string, fam packet.Family) (packet.Values, error) {
	right := func(a netip.Addr) bool { return a.Is4() == (fam == packet.IPv4) }
	if s == "*" {
		return packet.All().Values(packet.Src, fam), nil
	}
	if fam == packet.IPv4 {
		if v, ok := Four(s); ok {
			return v, nil
		}
	}
	if p, err := netip.ParsePrefix(s); err == nil && right(p.Addr()) {
		return packet.Prefix(p), nil
	}
	if a, err := netip.ParseAddr(s); err == nil && right(a) {
		return packet.Addresses(a, a), nil
	}
	if lo, hi, ok := strings.Cut(s, "-"); ok {
		l, err1 := netip.ParseAddr(lo)
		h, err2 := netip.ParseAddr(hi)
		if err1 == nil && err2 == nil && right(l) && right(h) && l.Compare(h) <= 0 {
			return packet.Addresses(l, h), nil
		}
	}
	if ip, mask, ok := strings.Cut(s, "/"); ok { // a mask in dotted form
		if a, err := netip.ParseAddr(ip); err == nil && a.Is4() && right(a) {
			if m, err := netip.ParseAddr(mask); err == nil && m.Is4() {
				if bits, ok := MaskBits(m); ok {
					return packet.Prefix(netip.PrefixFrom(a, bits)), nil
				}
			}
		}
	}
	return packet.Values{}, fmt.Errorf("%q is not an IPv%d address, network or range", s, fam)
}

// Four reads an IPv4 address or network as almost everybody writes it: four numbers, and a length behind them.
func Four(s string) (v packet.Values, ok bool) {
	addr := uint64(0)
	for part := range 4 {
		if part > 0 {
			if s == "" || s[0] != '.' {
				return v, false
			}
			s = s[1:]
		}
		n, rest := decimal(s, 255)
		if len(rest) == len(s) {
			return v, false
		}
		addr, s = addr<<8|n, rest
	}
	if s == "" {
		return packet.Numbers(addr, addr), true
	}
	bits, rest := decimal(s[1:], 32)
	if s[0] != '/' || rest != "" || s == "/" {
		return v, false
	}
	host := uint64(1)<<(32-bits) - 1
	return packet.Numbers(addr&^host, addr|host), true
}

// decimal reads the digits that a text begins with, up to a number; nothing where it is more, or begins with a zero and is none.
func decimal(s string, most uint64) (n uint64, rest string) {
	i := 0
	for ; i < len(s) && '0' <= s[i] && s[i] <= '9'; i++ {
		if n = n*10 + uint64(s[i]-'0'); n > most || i > 0 && s[0] == '0' {
			return 0, s
		}
	}
	return n, s[i:]
}

// MaskBits returns the length of a network mask that is written as an address; ok is false where it is none.
func MaskBits(m netip.Addr) (int, bool) {
	bits, done := 0, false
	for _, b := range m.AsSlice() {
		for i := 7; i >= 0; i-- {
			switch set := b>>i&1 == 1; {
			case set && done:
				return 0, false
			case set:
				bits++
			default:
				done = true
			}
		}
	}
	return bits, true
}

// Ranged reads a number, a range, or a name out of a table.
func Ranged(s string, top uint64, names map[string]uint64, what string) (packet.Values, error) {
	one := func(s string) (uint64, bool) {
		if n, ok := names[s]; ok {
			return n, true
		}
		n, err := strconv.ParseUint(s, 0, 64)
		return n, err == nil && n <= top
	}
	if s == "*" {
		return packet.Numbers(0, top), nil
	}
	if n, ok := one(s); ok {
		return packet.Numbers(n, n), nil
	}
	if lo, hi, ok := strings.Cut(s, "-"); ok {
		l, ok1 := one(lo)
		h, ok2 := one(hi)
		if ok1 && ok2 && l <= h {
			return packet.Numbers(l, h), nil
		}
	}
	return packet.Values{}, fmt.Errorf("%q is not %s", s, what)
}

// Protocols reads a protocol by name or number, or a range of numbers.
func Protocols(s string) (packet.Values, error) {
	if n, ok := packet.ProtoNumber(s); ok {
		return packet.OneOf(n), nil
	}
	return Ranged(s, 255, nil, "a protocol")
}

// Ports reads a port by service name or number, or a range.
func Ports(s string) (packet.Values, error) { return Ranged(s, 65535, Services, "a port") }

// EachType spreads types over all their codes.
func EachType(types packet.Values) packet.Values {
	if n, ok := types.Single(); ok {
		return packet.Numbers(n<<8, n<<8|255)
	}
	out := packet.Values{}
	for n := range uint64(256) {
		if types.Has(n) {
			out = out.Or(packet.Numbers(n<<8, n<<8|255))
		}
	}
	return out
}

// States are the names of connection states.
var States = map[string]uint64{
	"new":         packet.New,
	"established": packet.Established,
	"related":     packet.Related,
	"invalid":     packet.Invalid,
	"untracked":   packet.Untracked,
}

// Target reads "address", "address:port", ":port", ranges of both, a network.
func Target(s string, fam packet.Family) (model.Translation, error) {
	to := model.Translation{Family: fam, Text: s}
	host, port := s, ""
	switch {
	case strings.HasPrefix(s, "["):
		inner, rest, ok := strings.Cut(s[1:], "]")
		if !ok {
			return to, fmt.Errorf("%q is not a target of a translation", s)
		}
		if inner == "" {
			return to, fmt.Errorf("%q is not a target of a translation", s)
		}
		host = inner
		if r, second, ok := strings.Cut(rest, "-["); ok { // a range of addresses in brackets
			host += "-" + strings.TrimSuffix(second, "]")
			rest = r
			if h, p, ok := strings.Cut(host, "]"); ok {
				host, rest = h, p
			}
		}
		port = strings.TrimPrefix(rest, ":")
	case strings.Count(s, ":") == 1:
		host, port, _ = strings.Cut(s, ":")
	}
	if port != "" {
		v, err := Ports(port)
		if err != nil {
			return to, err
		}
		to.Ports = v
	}
	if host != "" {
		v, err := Addresses(host, fam)
		if err != nil && fam == packet.IPv4 {
			if v, err = Addresses(host, packet.IPv6); err == nil {
				to.Family = packet.IPv6
			}
		}
		if err != nil {
			return to, err
		}
		to.Addrs = v
		if p, err := netip.ParsePrefix(host); err == nil {
			to.Onto = p.Masked()
		}
	}
	if host == "" && port == "" {
		return to, fmt.Errorf("%q is not a target of a translation", s)
	}
	return to, nil
}
