package ike

// Wrap is how packets are put into a child SA.
type Wrap struct {
	Protocol     Protocol
	Mode         Mode
	Encapsulated bool // ESP in UDP (RFC 3948)
	Outer6       bool // the outer header is IPv6's
	Inner6       bool // the inner packets are IPv6
	Cut96        bool // HMAC-SHA2-256 is cut to 96 bits, whatever was negotiated
}

// The sizes of headers in bytes.
const (
	header4 = 20 // IPv4 without options (RFC 791, section 3.1)
	header6 = 40 // IPv6 (RFC 8200, section 3)
	udp     = 8  // RFC 768
	tcp     = 20 // TCP without options (RFC 9293, section 3.1)
	espHead = 8  // SPI and sequence number (RFC 4303, section 2)
	espTail = 2  // the length of the padding, and the next header (RFC 4303, section 2)
	ahHead  = 12 // without the ICV (RFC 4302, section 2)
)

// ivOf is the length in bytes of the initialisation vector that goes with every packet: a block of a cipher in CBC mode (RFC 3602, section
// 3), 8 for counter modes and combined ciphers (RFC 3686, RFC 4106, RFC 4309, RFC 4543, RFC 7634), none with an implicit one (RFC 8750).
func ivOf(c Choice) int {
	switch {
	case c.Algorithm == nil || c.ID == 11:
		return 0
	case c.ID >= 29 && c.ID <= 31:
		return 0
	case c.Block > 0:
		return c.Block / 8
	}
	return 8
}

// icvOf is the length in bytes of what protects the integrity of a packet: the tag of a combined cipher, else the truncated hash.
func icvOf(s Suite, w Wrap) int {
	if c := s.Transforms[Encryption]; c.Algorithm != nil && c.Combined {
		return c.Tag / 8
	}
	if c := s.Transforms[Integrity]; c.Algorithm != nil {
		if c.ID == 12 && w.Cut96 {
			return 96 / 8
		}
		return c.Tag / 8
	}
	return 0
}

// InnerMTU returns the largest inner packet, in bytes with its header, that a child SA puts into an outer packet of at most mtu bytes. Of
// ESP (RFC 4303, section 2.4), the payload, padding, and two bytes fill a multiple of the cipher's block, and of 4; of AH, the ICV one of
// 4 or, over IPv6, of 8 (RFC 4302, section 2.6). 0 where nothing fits.
func (s Suite) InnerMTU(w Wrap, mtu int) int {
	outer := header4
	if w.Outer6 {
		outer = header6
	}
	inner := 0 // of transport mode, the packet's own header stays outside
	if w.Mode == Transport {
		inner = outer
	}
	if w.Protocol == AH {
		icv, align := icvOf(s, w), 4
		if w.Outer6 {
			align = 8
		}
		head := (ahHead + icv + align - 1) / align * align
		return max(0, mtu-outer-head+inner)
	}
	fixed := outer + espHead + ivOf(s.Transforms[Encryption]) + icvOf(s, w)
	if w.Encapsulated {
		fixed += udp
	}
	align := 4
	if c := s.Transforms[Encryption]; c.Algorithm != nil && c.Block > 32 {
		align = c.Block / 8
	}
	room := (mtu - fixed) / align * align
	if mtu <= fixed || room <= espTail {
		return 0
	}
	return room - espTail + inner
}

// MSS returns the largest segment of TCP, in bytes, that fits inner packets of a size: without the headers of IP and TCP (RFC 9293, section
// 3.7.1).
func (w Wrap) MSS(innerMTU int) int {
	if w.Inner6 {
		return max(0, innerMTU-header6-tcp)
	}
	return max(0, innerMTU-header4-tcp)
}
