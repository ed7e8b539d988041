package strongswan

import (
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/packet"
)

// parseTime reads a time: seconds, or a number with s, m, h or d (swanctl.conf(5), TIME FORMATS).
func parseTime(text string) (time.Duration, error) {
	unit := time.Second
	number := text
	if text != "" {
		switch text[len(text)-1] {
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

// parseSize reads a number of bytes, with k, m or g for powers of 1024.
func parseSize(text string) (uint64, error) {
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
	n, err := strconv.ParseUint(strings.TrimSpace(number), 10, 64)
	if err != nil || n > math.MaxUint64/factor {
		return 0, fmt.Errorf("%q is not a size", text)
	}
	return n * factor, nil
}

func parseBool(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "yes", "true", "1", "enabled":
		return true, nil
	case "no", "false", "0", "disabled":
		return false, nil
	}
	return false, fmt.Errorf("%q is neither yes nor no", text)
}

// parseNumber reads a decimal or 0x number of up to 32 bits. "%unique" and its like are unknown before the tunnel is up.
func parseNumber(text string) (uint32, error) {
	n, err := strconv.ParseUint(text, 0, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number", text)
	}
	return uint32(n), nil
}

// services are the names of ports that people write in selectors (IANA service names).
var services = map[string]uint16{"ftp": 21, "ssh": 22, "telnet": 23, "smtp": 25, "domain": 53, "tftp": 69, "http": 80, "kerberos": 88, "pop3": 110, "ntp": 123,
	"imap2": 143, "snmp": 161, "bgp": 179, "ldap": 389, "https": 443, "syslog": 514, "ldaps": 636, "l2f": 1701, "l2tp": 1701, "ms-wbt-server": 3389, "isakmp": 500,
	"ipsec-nat-t": 4500, "mysql": 3306, "postgresql": 5432}

// parseSelectors reads a list of traffic selectors: network, address or range, each with an optional [protocol/port].
func parseSelectors(text string) (ike.Selectors, error) {
	var out ike.Selectors
	for part := range strings.SplitSeq(text, ",") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		s, err := parseSelector(part)
		if err != nil {
			return out, err
		}
		out = append(out, s)
	}
	return out, nil
}

func parseSelector(text string) (ike.Selector, error) {
	nets, ports, bracketed := strings.Cut(text, "[")
	s, err := parseNet(strings.TrimSpace(nets))
	if err != nil || !bracketed {
		return s, err
	}
	ports, ok := strings.CutSuffix(strings.TrimSpace(ports), "]")
	if !ok {
		return s, fmt.Errorf("in %q a closing bracket is missing", text)
	}
	proto, port, _ := strings.Cut(ports, "/")
	if s.Proto, err = ParseProto(proto); err != nil {
		return s, err
	}
	err = ParsePorts(port, &s)
	return s, err
}

func parseNet(text string) (ike.Selector, error) {
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

// ParseProto reads the protocol of a selector: a number or a name; "" and "any" are every protocol.
func ParseProto(text string) (uint8, error) {
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

// ParsePorts reads the ports of a selector into it: a number, a service name, a range, "opaque"; "" is every port.
func ParsePorts(text string, s *ike.Selector) error {
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
	if s.LoPort, err = parsePort(lo); err != nil {
		return err
	}
	if s.HiPort, err = parsePort(hi); err == nil && s.HiPort < s.LoPort {
		err = fmt.Errorf("%q is not a range of ports", text)
	}
	return err
}

func parsePort(text string) (uint16, error) {
	if n, ok := services[text]; ok {
		return n, nil
	}
	n, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return 0, fmt.Errorf("%q is not a port", text)
	}
	return uint16(n), nil
}
