package follow

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"toril/packet"
)

// Place is one side of a question: an address or a network, perhaps with a port.
type Place struct {
	Net  netip.Prefix
	Port uint16 // 0 for any
}

// ParsePlace reads "10.1.0.5", "10.1.0.5:443", "10.1.0.0/24", "10.1.0.0/24:443", "2001:db8::1" or "[2001:db8::1]:443".
func ParsePlace(s string) (Place, error) {
	bad := fmt.Errorf("%q is no address, network or address with a port, as 10.1.0.5:443, 10.1.0.0/24 or [2001:db8::5]:443", s)
	host, port := s, ""
	switch {
	case strings.HasPrefix(s, "["):
		end := strings.IndexByte(s, ']')
		if end < 0 {
			return Place{}, bad
		}
		host = s[1:end]
		rest := s[end+1:]
		if strings.HasPrefix(rest, "/") { // [2001:db8::]/64:443
			bits, p, _ := strings.Cut(rest[1:], ":")
			host, rest = host+"/"+bits, ":"+p
			if p == "" {
				rest = ""
			}
		}
		if rest != "" && !strings.HasPrefix(rest, ":") {
			return Place{}, bad
		}
		port = strings.TrimPrefix(rest, ":")
	case strings.Count(s, ":") == 1:
		host, port, _ = strings.Cut(s, ":")
	}
	var out Place
	if a, err := netip.ParseAddr(host); err == nil && a.Zone() == "" {
		a = a.Unmap()
		out.Net = netip.PrefixFrom(a, a.BitLen())
	} else if p, err := netip.ParsePrefix(host); err == nil {
		out.Net = p.Masked()
	} else {
		return Place{}, bad
	}
	if port != "" {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return Place{}, fmt.Errorf("%q is no port: 1 to 65535", port)
		}
		out.Port = uint16(n)
	}
	return out, nil
}

// String writes the place as ParsePlace reads it.
func (p Place) String() string {
	host := p.Net.String()
	if p.Net.IsSingleIP() {
		host = p.Net.Addr().String()
	}
	switch {
	case p.Port == 0:
		return host
	case p.Net.Addr().Is4():
		return fmt.Sprintf("%s:%d", host, p.Port)
	case p.Net.IsSingleIP():
		return fmt.Sprintf("[%s]:%d", host, p.Port)
	}
	return fmt.Sprintf("[%s]/%d:%d", p.Net.Addr(), p.Net.Bits(), p.Port)
}

// Packets are the packets from one place to another of a protocol: a name, a number, or "" for any; with a port, "" is TCP.
// "icmp" and "icmpv6" mean an echo request, their numbers every message.
func Packets(from, to Place, protocol string) (packet.Set, error) {
	if from.Net.Addr().BitLen() != to.Net.Addr().BitLen() {
		return packet.None(), fmt.Errorf("%s and %s are of different families: a packet is of one", from, to)
	}
	s := packet.Prefixes(packet.Src, from.Net).And(packet.Prefixes(packet.Dst, to.Net))
	ports := from.Port != 0 || to.Port != 0
	if protocol == "" && ports {
		protocol = "tcp"
	}
	if protocol == "" || protocol == "any" {
		if ports {
			return packet.None(), fmt.Errorf("a port needs a protocol that has ports: tcp, udp or sctp")
		}
		return s, nil
	}
	n, known := packet.ProtoNumber(protocol)
	if !known {
		v, err := strconv.ParseUint(protocol, 10, 8)
		if err != nil {
			return packet.None(), fmt.Errorf(
				"there is no protocol %q; names are tcp, udp, icmp, icmpv6, esp, ah, gre, sctp, or a number",
				protocol,
			)
		}
		n = v
	}
	s = s.With(packet.Proto, packet.OneOf(n))
	switch {
	case known && n == 1:
		s = s.With(packet.ICMP, packet.OneOf(8<<8))
	case known && n == 58:
		s = s.With(packet.ICMP, packet.OneOf(128<<8))
	}
	if !ports {
		return s, nil
	}
	if !packet.WithPorts.Has(n) {
		return packet.None(), fmt.Errorf("%s has no ports", protocol)
	}
	if from.Port != 0 {
		s = s.With(packet.Sport, packet.OneOf(uint64(from.Port)))
	}
	if to.Port != 0 {
		s = s.With(packet.Dport, packet.OneOf(uint64(to.Port)))
	}
	return s, nil
}
