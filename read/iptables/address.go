package iptables

import (
	"net/netip"
	"strconv"
	"strings"
)

// plainNetwork writes an IPv4 address, with its mask where it has one, as everybody does: the programs also take numbers in octal and
// hexadecimal, and addresses of fewer than four parts (inet_aton(3)). Behind -s and -d, where aligned is set, such parts are the first
// ones ("10.1" is 10.1.0.0); elsewhere the last of them fills the rest ("10.1" is 10.0.0.1). Other text is returned as it is.
func plainNetwork(text string, aligned bool) string {
	ip, mask, masked := strings.Cut(text, "/")
	a, ok := addressOf(ip, aligned)
	if !ok {
		return text
	}
	if !masked {
		return a.String()
	}
	if n, err := strconv.ParseUint(strings.TrimPrefix(mask, "+"), 0, 8); err == nil && !strings.Contains(mask, "_") {
		mask = strconv.FormatUint(n, 10)
	}
	return a.String() + "/" + mask
}

// addressOf reads an IPv4 address as inet_aton does, or, aligned, its parts from the first on.
func addressOf(text string, aligned bool) (netip.Addr, bool) {
	parts := strings.Split(text, ".")
	if len(parts) > 4 {
		return netip.Addr{}, false
	}
	n := make([]uint64, len(parts))
	for i, p := range parts {
		var err error
		if p == "" || strings.ContainsAny(p, "+-_bBoO") || p[0] < '0' || p[0] > '9' { // Go's other ways of writing numbers
			return netip.Addr{}, false
		}
		if n[i], err = strconv.ParseUint(p, 0, 32); err != nil {
			return netip.Addr{}, false
		}
	}
	whole, small := n[len(n)-1], true
	for i, v := range n {
		small = small && v < 256
		if i < len(n)-1 {
			if v > 255 {
				return netip.Addr{}, false
			}
			whole |= v << (24 - 8*i)
		}
	}
	if n[len(n)-1]>>(8*(5-len(n))) != 0 {
		return netip.Addr{}, false
	}
	if aligned && small {
		whole = 0
		for i, v := range n {
			whole |= v << (24 - 8*i)
		}
	}
	return netip.AddrFrom4([4]byte{byte(whole >> 24), byte(whole >> 16), byte(whole >> 8), byte(whole)}), true
}
