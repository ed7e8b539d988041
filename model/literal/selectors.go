package literal

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/packet"
)

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
