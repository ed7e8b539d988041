package nftables

import (
	"fmt"
	"slices"
	"strconv"
	"sync"

	"toril/model/literal"
	"toril/packet"
	"toril/syntax/nft"
)

// operand is what a rule looks at: how one of its values becomes a set of packets, and which packets have it at all.
type operand struct {
	base   packet.Set    // the packets that have such a field
	family packet.Family // of those, where they are of one; of the commonest operands only, as proto is
	proto  packet.Values // of those, where they are of some
	field  packet.Field
	values func(s string) (packet.Values, error) // of one value, range or prefix
	set    func(s string) (packet.Set, error)    // in place of values, where one field is not enough
	bits   bool                                  // a list without braces means any of its values
	beyond map[string]bool                       // values that are known and not in the model
	opaque string                                // not in the model: what it is
	form   check                                 // of the values of what is not in the model; nil where any name will do

	text  string // a value of it that was read last, and what it means; "" where none was
	value packet.Values
}

func opaque(form check, what string, args ...any) operand {
	return operand{base: packet.All(), opaque: fmt.Sprintf(what, args...), form: form}
}

// of returns the packets whose operand has a value.
func (o operand) of(s string) (packet.Set, error) {
	if o.set != nil {
		return o.set(s)
	}
	v, err := o.values(s)
	if err != nil {
		return packet.None(), err
	}
	return o.base.With(o.field, v), nil
}

// operand recognises the operand that comes next, as operandAt does. The commonest are made once.
func (s *state) operand() (operand, int) {
	t := s.left()
	k, n := commonAt(t)
	if n == 0 {
		return operandAt(t)
	}
	return *s.common(k, t), n
}

// common returns one of the commonest operands, with which tokens begin.
func (s *state) common(k commonOperand, t []token) *operand {
	if s.operands[k] == nil {
		o, _ := operandAt(t)
		s.operands[k] = &o
	}
	return s.operands[k]
}

// commonOperand numbers an operand that says the same whatever stands behind it, and that rules ask for all the time.
type commonOperand int

const (
	ipSaddr commonOperand = iota
	ipDaddr
	ip6Saddr
	ip6Daddr
	tcpSport
	tcpDport
	udpSport
	udpDport
	iifName
	oifName
	commonOperands
)

// commonAt recognises one of the commonest operands at the start of tokens, and of how many tokens it is: 0 where there is none.
func commonAt(t []token) (k commonOperand, n int) {
	if len(t) < 2 || t[0].Kind != nft.Word {
		return 0, 0
	}
	switch t[0].Text {
	case "iifname":
		return iifName, 1
	case "oifname":
		return oifName, 1
	case "ip":
		k = ipSaddr
	case "ip6":
		k = ip6Saddr
	case "tcp":
		k = tcpSport
	case "udp":
		k = udpSport
	default:
		return 0, 0
	}
	if t[1].Kind != nft.Word {
		return 0, 0
	}
	addresses := k <= ip6Daddr
	switch t[1].Text {
	case "saddr", "sport":
	case "daddr", "dport":
		k++
	default:
		return 0, 0
	}
	if (t[1].Text[1:] == "addr") != addresses {
		return 0, 0
	}
	return k, 2
}

// operandAt recognises an operand at the start of tokens; n is the number of tokens that it takes, 0 where there is none.
// It is long as a table is: a case a field that a rule may look at.
func operandAt(t []token) (o operand, n int) {
	second := ""
	if len(t) == 0 {
		return o, 0
	}
	if len(t) > 1 && t[1].Kind == nft.Word {
		second = t[1].Text
	}
	if t[0].Kind != nft.Word {
		return o, 0
	}
	if len(t) > 4 && slices.Contains([]string{"@ll", "@nh", "@th", "@ih"}, t[0].Text) && t[1].Is(",") && number(t[2].Text) &&
		t[3].Is(",") &&
		number(t[4].Text) {
		return opaque(number, "bytes of the packet"), 5
	}
	switch t[0].Text {
	case "ip", "ip6":
		return network(t, second)
	case "tcp", "udp", "udplite", "sctp", "dccp", "th":
		return transport(t[0].Text, t)
	case "icmp", "icmpv6":
		return icmp(t[0].Text, second)
	case "meta":
		if o, n := meta(second, t[1:]); n > 0 {
			return o, n + 1
		}
	case "ct":
		return conntrack(t)
	case "ipsec":
		return ipsec(t)
	case "rt":
		switch second {
		case "ipsec":
			return existence()[packet.PeerOut], 2
		case "classid", "nexthop", "mtu", "type", "nexthdr", "hdrlength", "seg-left":
			return opaque(forms()[second], "rt %s", second), 2
		case "ip", "ip6":
			if len(t) > 2 {
				return opaque(forms()[t[2].Text], "rt %s %s", second, t[2].Text), 3
			}
		}
	case "fib":
		n := 1
		for n < len(t) &&
			(t[n].Is("saddr") || t[n].Is("daddr") || t[n].Is("mark") || t[n].Is("iif") || t[n].Is("oif") || t[n].Is(".") ||
				t[n].Is("type") || t[n].Is("oifname")) {
			n++
		}
		if n < 3 {
			return o, 0
		}
		form := either(exists, anyName)
		if t[n-1].Is("type") {
			form = oneOf("local", "unicast", "broadcast", "anycast", "multicast", "blackhole", "unreachable", "prohibit")
		}
		return opaque(form, "a look into the routing table (fib)"), n
	case "ether",
		"vlan",
		"arp",
		"esp",
		"ah",
		"comp",
		"socket",
		"osf",
		"dst",
		"frag",
		"hbh",
		"mh",
		"srh",
		"igmp",
		"gre",
		"geneve",
		"vxlan",
		"tunnel",
		"exthdr",
		"rt0",
		"xfrm":
		if fields := headers()[t[0].Text]; second != "" && (fields == nil || slices.Contains(fields, second)) {
			n := 2
			for n+1 < len(t) && t[n].Kind == nft.Word && (t[n-1].Is("tunnel") || t[0].Is("socket") && t[n].Is("level")) {
				n++
			}
			form := forms()[second]
			switch {
			case t[0].Is("exthdr"):
				if !slices.Contains([]string{"hbh", "dst", "frag", "rt", "mh", "srh", "ah"}, second) {
					return o, 0
				}
				form = exists
			case second == "more-fragments":
				form = below("2")
			case t[0].Is("ether") && (second == "saddr" || second == "daddr"):
				form = hardware
			case t[0].Is("frag") || t[0].Is("hbh") || t[0].Is("dst") || t[0].Is("mh") || t[0].Is("esp") || t[0].Is("ah") || t[0].Is("comp"):
				form = either(number, exists, anyName)
			case t[0].Is("socket") && form == nil:
				form = either(number, exists, anyName)
			}
			return opaque(form, "%s %s", t[0].Text, second), n
		}
	case "numgen", "jhash", "symhash":
		n := 1
		switch {
		case t[0].Is("numgen") && (second == "inc" || second == "random"):
			n = 2
		case t[0].Is("jhash"):
			for n < len(t) && !t[n].Is("jhash") { // one within the other would have no end
				_, m := operandAt(t[n:])
				if n += m; m == 0 || n >= len(t) || !t[n].Is(".") {
					break
				}
				n++
			}
		}
		if n+1 >= len(t) || !t[n].Is("mod") {
			return o, 0
		}
		form := below(t[n+1].Text)
		for n+1 < len(t) && (t[n].Is("mod") || t[n].Is("seed") || t[n].Is("offset")) && number(t[n+1].Text) {
			n += 2
		}
		if t[n-2].Is("offset") {
			form = number
		}
		return opaque(form, "a choice by %s", t[0].Text), n
	case "length",
		"l4proto",
		"nfproto",
		"protocol",
		"time",
		"day",
		"hour",
		"random",
		"priority",
		"iifkind",
		"oifkind",
		"ibrpvid",
		"ibrvproto",
		"sdif",
		"sdifname",
		"broute",
		"secpath":
		return o, 0 // only behind the word meta
	}
	return meta(t[0].Text, t)
}

// headers are the fields of headers that the model does not have.
var headers = sync.OnceValue(func() map[string][]string {
	return map[string][]string{
		"ether": {
			"saddr",
			"daddr",
			"type",
		}, "vlan": {"id", "cfi", "dei", "pcp", "type"}, "arp": {"htype", "ptype", "hlen", "plen", "operation", "saddr", "daddr"},
		"esp": {"spi", "sequence"}, "ah": {"nexthdr", "hdrlength", "reserved", "spi", "sequence"}, "comp": {"nexthdr", "flags", "cpi"},
		"socket": {
			"transparent",
			"mark",
			"wildcard",
			"cgroupv2",
		}, "osf": {"name", "version", "ttl"}, "frag": {"nexthdr", "reserved", "frag-off", "reserved2", "more-fragments", "id"},
		"hbh": {"nexthdr", "hdrlength"}, "dst": {"nexthdr", "hdrlength"}, "mh": {"nexthdr", "hdrlength", "type", "reserved", "checksum"},
		"srh": {"flags", "tag", "last-entry", "sid", "seg-left"}, "igmp": {"type", "mrt", "checksum", "group"},
	}
})

// option returns how many tokens "ip option lsrr ptr" and its like take: what is asked of the option may be missing.
func option(t []token) int {
	if len(t) > 3 && optionFields()[t[3].Text] {
		return 4
	}
	return min(3, len(t))
}

var optionFields = sync.OnceValue(func() map[string]bool {
	return map[string]bool{
		"kind":   true,
		"length": true,
		"size":   true,
		"count":  true,
		"left":   true,
		"right":  true,
		"tsval":  true,
		"tsecr":  true,
		"type":   true,
		"ptr":    true,
		"addr":   true,
		"value":  true,
	}
})

// below is a number smaller than another.
func below(limit string) check {
	most, err := strconv.ParseUint(limit, 0, 64)
	return func(s string) bool {
		n, bad := strconv.ParseUint(s, 0, 64)
		return err == nil && bad == nil && n < most
	}
}

func network(t []token, field string) (operand, int) {
	family := t[0].Text
	fam, base := packet.IPv4, packet.Only(packet.IPv4)
	if family == "ip6" {
		fam, base = packet.IPv6, packet.Only(packet.IPv6)
	}
	switch field {
	case "option":
		return operand{base: base, opaque: "an option of " + family, form: either(number, exists)}, option(t)
	case "saddr", "daddr":
		o := operand{
			base:   base,
			family: fam,
			field:  packet.Src,
			values: func(s string) (packet.Values, error) { return literal.Addresses(s, fam) },
		}
		if field == "daddr" {
			o.field = packet.Dst
		}
		return o, 2
	case "protocol", "nexthdr":
		return operand{base: base, field: packet.Proto, values: literal.Protocols}, 2
	case "version", "hdrlength", "dscp", "ecn", "length", "id", "frag-off", "ttl", "checksum", "priority", "flowlabel", "hoplimit":
		o := opaque(forms()[field], "%s %s", family, field)
		if o.form == nil {
			o.form = number
		}
		o.base = base
		return o, 2
	}
	return operand{}, 0
}

func transport(proto string, t []token) (operand, int) {
	if len(t) < 2 {
		return operand{}, 0
	}
	of := packet.WithPorts
	if proto != "th" {
		n, _ := packet.ProtoNumber(proto)
		of = packet.OneOf(n)
	}
	base := packet.Where(packet.Proto, of)
	switch t[1].Text {
	case "sport":
		return operand{base: base, proto: of, field: packet.Sport, values: literal.Ports}, 2
	case "dport":
		return operand{base: base, proto: of, field: packet.Dport, values: literal.Ports}, 2
	case "option":
		if len(t) < 3 || keywords()[t[2].Text] || optionFields()[t[2].Text] && t[2].Text != "length" {
			return operand{}, 0
		}
		return operand{base: base, opaque: "an option of " + proto, form: either(number, exists)}, option(t)
	case "flags", "sequence", "ackseq", "doff", "reserved", "window", "checksum", "urgptr", "length", "csumcov", "vtag", "type", "chunk":
		form := forms()[t[1].Text]
		if form == nil {
			form = either(number, anyName)
		}
		return operand{base: base, opaque: proto + " " + t[1].Text, form: form}, 2
	}
	return operand{}, 0
}

func icmp(proto, field string) (operand, int) {
	n, names, fam := uint64(1), literal.ICMPTypes, packet.IPv4
	if proto == "icmpv6" {
		n, names, fam = 58, literal.ICMPv6Types, packet.IPv6
	}
	base := packet.Only(fam).With(packet.Proto, packet.OneOf(n))
	switch field {
	case "type":
		return operand{base: base, field: packet.ICMP, values: func(s string) (packet.Values, error) {
			v, err := literal.Ranged(s, 255, names, "a type of ICMP")
			if err != nil {
				return v, err
			}
			return literal.EachType(v), nil
		}}, 2
	case "code", "checksum", "id", "sequence", "mtu", "gateway", "parameter-problem", "max-delay", "taddr", "daddr":
		form := check(number)
		switch field {
		case "code":
			form = either(number, anyName)
		case "gateway", "taddr", "daddr":
			form = either(number, address)
		}
		return operand{base: base, opaque: proto + " " + field, form: form}, 2
	}
	return operand{}, 0
}

func ifnames(s string) (packet.Values, error) {
	if keywords()[s] || s == "exists" || s == "missing" {
		return packet.Values{}, fmt.Errorf("%q is not the name of an interface", s)
	}
	return packet.Name(s), nil
}

// meta recognises what "meta" may stand before, also without it. It is long as a table is: a case a key.
func meta(key string, t []token) (operand, int) {
	switch key {
	case "iifname", "iif":
		return operand{base: packet.All(), field: packet.In, values: ifnames}, 1
	case "oifname", "oif":
		return operand{base: packet.All(), field: packet.Out, values: ifnames}, 1
	case "l4proto":
		return operand{base: packet.All(), field: packet.Proto, values: literal.Protocols}, 1
	case "nfproto":
		return operand{base: packet.All(), set: func(s string) (packet.Set, error) {
			switch s {
			case "ipv4", "2":
				return packet.Only(packet.IPv4), nil
			case "ipv6", "10":
				return packet.Only(packet.IPv6), nil
			}
			return packet.None(), fmt.Errorf("%q is not ipv4 or ipv6", s)
		}}, 1
	case "protocol":
		return operand{base: packet.All(), set: func(s string) (packet.Set, error) {
			switch s {
			case "ip", "0x0800":
				return packet.Only(packet.IPv4), nil
			case "ip6", "0x86dd":
				return packet.Only(packet.IPv6), nil
			case "arp", "vlan", "8021q", "8021ad":
				return packet.None(), nil
			}
			return packet.None(), fmt.Errorf("%q is not a protocol of Ethernet", s)
		}}, 1
	case "mark":
		return operand{
			base:   packet.All(),
			field:  packet.Mark,
			values: func(s string) (packet.Values, error) { return literal.Ranged(s, 1<<32-1, nil, "a mark") },
		}, 1
	case "ipsec", "secpath":
		return existence()[packet.PeerIn], 1
	case "length",
		"pkttype",
		"skuid",
		"skgid",
		"cgroup",
		"cpu",
		"priority",
		"iiftype",
		"oiftype",
		"iifgroup",
		"oifgroup",
		"rtclassid",
		"random",
		"time",
		"day",
		"hour",
		"iifkind",
		"oifkind",
		"ibrname",
		"obrname",
		"ibridgename",
		"obridgename",
		"ibrpvid",
		"ibrvproto",
		"nftrace",
		"sdif",
		"sdifname",
		"broute":
		return opaque(forms()[key], "meta %s", key), 1
	}
	return operand{}, 0
}

// existence are operands that are there or are missing: protection by IPsec, by the field that has the peer.
var existence = sync.OnceValue(func() map[packet.Field]operand {
	out := map[packet.Field]operand{}
	for _, f := range []packet.Field{packet.PeerIn, packet.PeerOut} {
		none := packet.Where(f, packet.OneOf(0))
		some := none.Not()
		out[f] = operand{base: packet.All(), set: func(s string) (packet.Set, error) {
			switch s {
			case "exists", "1", "true":
				return some, nil
			case "missing", "0", "false":
				return none, nil
			}
			return packet.None(), fmt.Errorf("%q is not exists or missing", s)
		}}
	}
	return out
})

func ipsec(t []token) (operand, int) {
	if len(t) < 3 {
		return operand{}, 0
	}
	f := packet.PeerIn
	if t[1].Is("out") {
		f = packet.PeerOut
	} else if !t[1].Is("in") {
		return operand{}, 0
	}
	i := 2
	first := true
	if t[i].Is("spnum") && len(t) > 4 {
		first = t[i+1].Is("0")
		i += 2
	}
	protected := packet.Where(f, packet.Numbers(0, 0)).Not()
	if (t[i].Is("ip") || t[i].Is("ip6")) && i+1 < len(t) {
		fam := packet.IPv4
		if t[i].Is("ip6") {
			fam = packet.IPv6
		}
		// the peer's end of the tunnel: the source of what came in, the destination of what goes out
		if first && (f == packet.PeerIn && t[i+1].Is("saddr") || f == packet.PeerOut && t[i+1].Is("daddr")) {
			return operand{
				base:   protected,
				field:  f,
				values: func(s string) (packet.Values, error) { return literal.Addresses(s, fam) },
			}, i + 2
		}
		if !t[i+1].Is("saddr") && !t[i+1].Is("daddr") {
			return operand{}, 0
		}
		return operand{base: protected, opaque: "the own address of the SA", form: address}, i + 2
	}
	if t[i].Is("reqid") || t[i].Is("spi") {
		return operand{base: protected, opaque: "the " + t[i].Text + " of the SA", form: number}, i + 1
	}
	return operand{}, 0
}

// statuses are those of a connection that the model does not have.
var statuses = map[string]bool{
	"expected":      true,
	"seen-reply":    true,
	"assured":       true,
	"confirmed":     true,
	"dying":         true,
	"seq-adjust":    true,
	"fixed-timeout": true,
	"template":      true,
	"helper":        true,
	"offload":       true,
}

func conntrack(t []token) (operand, int) {
	if len(t) < 2 {
		return operand{}, 0
	}
	i := 1
	if (t[i].Is("original") || t[i].Is("reply")) && len(t) > 2 {
		n := 3
		if (t[2].Is("ip") || t[2].Is("ip6")) && len(t) > 3 {
			n = 4
		}
		form := address
		switch t[n-1].Text {
		case "saddr", "daddr":
		case "bytes", "packets", "avgpkt", "zone", "l3proto":
			form = forms()[t[n-1].Text]
		case "protocol", "proto-src", "proto-dst":
			form = either(number, anyName)
		default:
			return operand{}, 0
		}
		return opaque(form, "the connection's %s addresses", t[1].Text), n
	}
	switch t[i].Text {
	case "state":
		return operand{base: packet.All(), field: packet.State, bits: true, values: func(s string) (packet.Values, error) {
			return literal.Ranged(s, packet.Untracked, literal.States, "a connection state")
		}}, 2
	case "direction":
		return operand{base: packet.All(), field: packet.Direction, values: func(s string) (packet.Values, error) {
			return literal.Ranged(s, 1, map[string]uint64{"original": packet.Original, "reply": packet.Reply}, "a direction")
		}}, 2
	case "status":
		return operand{base: packet.All(), bits: true, field: packet.Translated, values: func(s string) (packet.Values, error) {
			switch s {
			case "snat":
				return packet.OneOf(1, 3), nil
			case "dnat":
				return packet.OneOf(2, 3), nil
			}
			return packet.Values{}, fmt.Errorf("%q is not a status of a connection", s)
		}, beyond: statuses}, 2
	case "mark":
		return operand{
			base:   packet.All(),
			field:  packet.ConnMark,
			values: func(s string) (packet.Values, error) { return literal.Ranged(s, 1<<32-1, nil, "a mark") },
		}, 2
	case "expiration",
		"helper",
		"bytes",
		"packets",
		"avgpkt",
		"zone",
		"label",
		"l3proto",
		"protocol",
		"proto-src",
		"proto-dst",
		"secmark",
		"event",
		"id":
		return opaque(forms()[t[i].Text], "ct %s", t[i].Text), 2
	}
	return operand{}, 0
}
