package literal

import (
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/packet"
)

// Time reads a time: seconds, or a number with s, m, h or d (swanctl.conf(5), TIME FORMATS).
func Time(text string) (time.Duration, error) {
	unit := time.Second
	number := text
	if text != "" {
		switch text[len(text)-1] | 0x20 {
		case 's':
			number = text[:len(text)-1]
		case 'm':
			unit, number = time.Minute, text[:len(text)-1]
		case 'h':
			unit, number = time.Hour, text[:len(text)-1]
		case 'd':
			unit, number = 24*time.Hour, text[:len(text)-1]
		}
	}
	n, err := strconv.ParseUint(strings.TrimSpace(number), 10, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time (a number, with s, m, h or d behind it)", text)
	}
	if n > uint64(math.MaxInt64)/uint64(unit) {
		return 0, fmt.Errorf("%q is longer than any lifetime", text)
	}
	return time.Duration(n) * unit, nil
}

// Size reads a number of bytes, with k, m or g for powers of 1024.
func Size(text string) (uint64, error) {
	factor := uint64(1)
	number := text
	if text != "" {
		switch text[len(text)-1] {
		case 'k', 'K':
			factor = 1 << 10
		case 'm', 'M':
			factor = 1 << 20
		case 'g', 'G':
			factor = 1 << 30
		}
		if factor > 1 {
			number = text[:len(text)-1]
		}
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(strings.TrimSpace(number), "+"), 10, 64)
	if err != nil || n > math.MaxUint64/factor {
		return 0, fmt.Errorf("%q is not a size", text)
	}
	return n * factor, nil
}

// Bool reads yes or no, true or false.
func Bool(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "yes", "true", "1", "enabled":
		return true, nil
	case "no", "false", "0", "disabled":
		return false, nil
	}
	return false, fmt.Errorf("%q is neither yes nor no", text)
}

// Number reads a decimal or 0x number of up to 32 bits. "%unique" and its like are unknown before the tunnel is up.
func Number(text string) (uint32, error) {
	n, err := strconv.ParseUint(text, 0, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number", text)
	}
	return uint32(n), nil
}

// Net reads the addresses of a traffic selector: a network, an address, a range, or "dynamic".
func Net(text string) (ike.Selector, error) {
	if text == "dynamic" || text == "" {
		return ike.Selector{Dynamic: true, HiPort: 65535}, nil
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return ike.SelectPrefix(netip.PrefixFrom(a, a.BitLen())), nil
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		return ike.SelectPrefix(p), nil
	}
	if host, bits, ok := strings.Cut(text, "/"); ok { // the daemon takes a prefix that is too long for a host
		if a, err := netip.ParseAddr(host); err == nil {
			if n, err := strconv.Atoi(bits); err == nil && n > a.BitLen() {
				return ike.SelectPrefix(netip.PrefixFrom(a, a.BitLen())), nil
			}
		}
	}
	if lo, hi, ok := strings.Cut(text, "-"); ok {
		l, err1 := netip.ParseAddr(strings.TrimSpace(lo))
		h, err2 := netip.ParseAddr(strings.TrimSpace(hi))
		if err1 == nil && err2 == nil && l.BitLen() == h.BitLen() && l.Compare(h) <= 0 {
			return ike.Selector{Lo: l, Hi: h, HiPort: 65535}, nil
		}
	}
	return ike.Selector{}, fmt.Errorf("%q is not a network, an address or a range", text)
}

// Proto reads the protocol of a selector: a number or a name; "" and "any" are every protocol.
func Proto(text string) (uint8, error) {
	if text == "" || text == "any" || text == "%any" {
		return 0, nil
	}
	if n, ok := packet.ProtoNumber(text); ok {
		return uint8(n), nil
	}
	n, err := strconv.ParseUint(text, 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%q is not a protocol", text)
	}
	return uint8(n), nil
}

// SelectorPorts reads the ports of a selector into it: a number, a service name, a range, "opaque"; "" is every port.
func SelectorPorts(text string, s *ike.Selector) error {
	switch text {
	case "", "any", "%any":
		s.LoPort, s.HiPort = 0, 65535
		return nil
	case "opaque", "%opaque":
		s.Opaque, s.LoPort, s.HiPort = true, 0, 65535
		return nil
	}
	lo, hi, ranged := strings.Cut(text, "-")
	if !ranged {
		hi = lo
	}
	var err error
	if s.LoPort, err = port(lo); err != nil {
		return err
	}
	if s.HiPort, err = port(hi); err == nil && s.HiPort < s.LoPort {
		err = fmt.Errorf("%q is not a range of ports", text)
	}
	return err
}

func port(text string) (uint16, error) {
	if n, ok := Services[text]; ok {
		return uint16(n), nil
	}
	n, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return 0, fmt.Errorf("%q is not a port", text)
	}
	return uint16(n), nil
}

// Host reads where an IKE peer is: an address, a network, a range, %any or a name.
func Host(text string) model.Address {
	switch text {
	case "%any", "%any4", "%any6", "0.0.0.0", "::", "0.0.0.0/0", "::/0":
		return model.Address{Text: text, Any: true}
	}
	text = strings.TrimPrefix(text, "%")
	if a, err := netip.ParseAddr(text); err == nil {
		return model.Address{Text: text, Lo: a, Hi: a}
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		s := ike.SelectPrefix(p)
		return model.Address{Text: text, Lo: s.Lo, Hi: s.Hi}
	}
	if lo, hi, ok := strings.Cut(text, "-"); ok {
		l, err1 := netip.ParseAddr(lo)
		h, err2 := netip.ParseAddr(hi)
		if err1 == nil && err2 == nil && l.BitLen() == h.BitLen() && l.Compare(h) <= 0 {
			return model.Address{Text: text, Lo: l, Hi: h}
		}
	}
	return model.Address{Text: text, Name: text}
}
