package nftables

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"toril/internal/lazy"
	"toril/packet"
	"toril/source"
	"toril/syntax/nft"
)

// A value outside the model decides nothing here, but the program refuses a whole file for one that it does not know: each
// operand has the words and forms that nft(8) gives it.

type check func(s string) bool

var (
	number  = matching(`^(0x[0-9a-fA-F]+|[0-9]+)$`)
	span    = matching(`^([0-9]+d)?([0-9]+h)?([0-9]+m)?([0-9]+s)?([0-9]+ms)?$`)
	anyName = func(s string) bool { return !keywords()[s] && name(s) }
	name    = matching(`^[A-Za-z][A-Za-z0-9_./\\*+:-]*$`)
	exists  = oneOf("exists", "missing", "0", "1", "true", "false")
)

func matching(pattern string) check {
	re := lazy.Match(pattern)
	return func(s string) bool { return s != "" && re(s) }
}

func oneOf(words ...string) check {
	return func(s string) bool { return number(s) || slices.Contains(words, s) }
}

func either(checks ...check) check {
	return func(s string) bool { return slices.ContainsFunc(checks, func(c check) bool { return c(s) }) }
}

func address(s string) bool {
	if _, err := netip.ParseAddr(s); err == nil {
		return true
	}
	_, err := netip.ParsePrefix(s)
	return err == nil
}

func hardware(s string) bool {
	_, err := net.ParseMAC(s)
	return err == nil
}

// moment is a date with or without a time, or an hour of the day.
func moment(s string) bool {
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02", "15:04:05", "15:04"} {
		if _, err := time.Parse(layout, s); err == nil {
			return true
		}
	}
	return number(s)
}

// dayOf is a day of the week by name or by number.
func dayOf(words ...string) check {
	return func(s string) bool { return slices.Contains(words, s) || len(s) == 1 && s >= "0" && s <= "6" }
}

var forms = sync.OnceValue(func() map[string]check {
	return map[string]check{
		"length": number, "skuid": either(number, anyName), "skgid": either(number, anyName),
		"cgroup": number, "cpu": number, "random": number,
		"pkttype": oneOf(
			"host",
			"unicast",
			"broadcast",
			"multicast",
			"other",
		), "iiftype": either(number, anyName), "oiftype": either(number, anyName),
		"iifgroup": either(
			number,
			anyName,
		), "oifgroup": either(number, anyName), "rtclassid": either(number, anyName), "time": moment, "hour": moment,
		"day": dayOf(
			"Sunday",
			"Monday",
			"Tuesday",
			"Wednesday",
			"Thursday",
			"Friday",
			"Saturday",
			"sunday",
			"monday",
			"tuesday",
			"wednesday",
			"thursday",
			"friday",
			"saturday",
		),
		"mark": number, "expiration": either(number, span), "bytes": number, "packets": number, "avgpkt": number, "zone": number,
		"label": either(below("128"), anyName), "l3proto": oneOf("ipv4", "ipv6"),
		"version": number, "hdrlength": number, "id": number, "frag-off": number, "ttl": number, "checksum": number, "flowlabel": number,
		"hoplimit": number,
		"dscp": oneOf(
			"cs0",
			"cs1",
			"cs2",
			"cs3",
			"cs4",
			"cs5",
			"cs6",
			"cs7",
			"be",
			"df",
			"lephb",
			"va",
			"ef",
			"af11",
			"af12",
			"af13",
			"af21",
			"af22",
			"af23",
			"af31",
			"af32",
			"af33",
			"af41",
			"af42",
			"af43",
		),
		"ecn": oneOf("not-ect", "ect0", "ect1", "ce"),
		"flags": oneOf(
			"fin",
			"syn",
			"rst",
			"psh",
			"ack",
			"urg",
			"ecn",
			"cwr",
		), "sequence": number, "ackseq": number, "doff": number, "reserved": number, "window": number,
		"urgptr": number, "nexthop": address, "mtu": number, "seg-left": number, "more-fragments": number, "reserved2": number,
	}
})

// keywords are words of the language that are no names.
var keywords = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(`accept add ah all arp bridge chain comment comp continue counter cpu create ct day dccp define
	delete describe devices
		dnat drop dst dup dynamic elements esp ether expires export exthdr fib flags flow flush frag fwd goto handle hbh hook
		hour icmp icmpv6 igmp iif iifgroup iifname iiftype include index inet insert interval ip ip6 ipsec jhash jump limit list
		log map mark masquerade meta mh netdev notrack numgen oif oifgroup oifname oiftype osf policy position priority queue
		quota redefine redirect reject rename replace reset return rt rule sctp secmark set size snat socket symhash synproxy
		table tcp th time timeout tproxy type typeof udp udplite undefine update vlan vmap`) {
		out[w] = true
	}
	return out
})

// outside reads the rest of a condition whose operands are not in the model: "[& mask] [!=|==|<|...] value", and returns why it is
// none.
func (s *state) outside(ops []operand) string {
	for s.accept("&", "|", "^", "<<", ">>", ",") {
		if why := s.term(ops[0]); why != "" {
			return why
		}
	}
	if !s.accept("==", "!=", "<", ">", "<=", ">=") && len(ops) == 1 && strings.HasSuffix(ops[0].opaque, "flags") {
		s.accept("!")
	}
	switch t := s.peek(); {
	case s.i >= len(s.t):
		return "a value was expected at the end of the rule"
	case t.Is("{"):
		elements, ok := s.braces()
		if !ok {
			return "a closing brace is missing"
		}
		for _, e := range elements {
			if why := fits(ops, e); why != "" {
				return why
			}
		}
		return ""
	case t.Kind == nft.Word && strings.HasPrefix(t.Text, "@"):
		if s.useSet(s.take()) == nil {
			return fmt.Sprintf("set %s is not defined", source.Clean(t.Text))
		}
		return ""
	}
	if len(ops) > 1 {
		start := s.i
		s.concatenated(len(ops))
		return fits(ops, s.t[start:s.i])
	}
	for {
		if why := s.term(ops[0]); why != "" {
			return why
		}
		if !s.accept(",", "|", "/") {
			return ""
		}
	}
}

// term reads a value or a range, or several in parentheses.
func (s *state) term(o operand) string {
	if s.accept("(") {
		for {
			if why := s.term(o); why != "" {
				return why
			}
			if !s.accept("|", "&", ",") {
				break
			}
		}
		if !s.accept(")") {
			return "a closing parenthesis is missing"
		}
		return ""
	}
	start := s.i
	s.concatenated(1)
	return fits([]operand{o}, s.t[start:s.i])
}

// fits returns why an element is none of such operands; "" where it is.
func fits(ops []operand, e []token) string {
	values, why := parts(e)
	if why != "" {
		return why
	}
	if len(values) != len(ops) {
		return fmt.Sprintf("a value has %d parts where %d were expected", len(values), len(ops))
	}
	for i, o := range ops {
		if o.opaque == "" {
			if _, err := o.of(values[i]); err != nil && !o.beyond[values[i]] {
				return source.Clean(err.Error())
			}
			continue
		}
		form := o.form
		if form == nil {
			form = either(number, anyName)
		}
		if !ranged(values[i], form) {
			return fmt.Sprintf("%q is not a value of %s", source.Clean(values[i]), o.opaque)
		}
	}
	return ""
}

// ranged reports whether a text is of a form, or two such with a dash between.
func ranged(s string, form check) bool {
	if form(s) {
		return true
	}
	for i := range s {
		if s[i] == '-' && form(s[:i]) && form(s[i+1:]) {
			return true
		}
	}
	return false
}

// rate reads what stands behind "limit" or "quota", and returns why it is none.
func (s *state) rate(kind string) string {
	digits := func() bool {
		ok := number(s.peek().Text)
		s.i++
		return ok
	}
	if kind == "quota" {
		s.accept("over", "until")
		if !digits() || !s.accept("bytes", "kbytes", "mbytes", "gbytes") {
			return "a quota is a number of bytes"
		}
		if s.accept("used") && (!digits() || !s.accept("bytes", "kbytes", "mbytes", "gbytes")) {
			return "a quota is a number of bytes"
		}
		return ""
	}
	s.accept("rate")
	s.accept("over")
	amount := s.take().Text // "10/second", or "10 kbytes/second"
	if before, unit, ok := strings.Cut(amount, "/"); ok {
		if !number(before) || !unitOfTime[unit] {
			return fmt.Sprintf("%q is not a rate", source.Clean(amount))
		}
	} else if unit := s.take().Text; !number(amount) ||
		!slices.Contains([]string{"bytes", "kbytes", "mbytes", "packets"}, strings.SplitN(unit, "/", 2)[0]) ||
		!unitOfTime[unit[strings.Index(unit, "/")+1:]] {
		return fmt.Sprintf("%q is not a rate", source.Clean(amount))
	}
	if s.accept("burst") && (!digits() || !s.accept("packets", "bytes", "kbytes", "mbytes")) {
		return "a burst is a number of packets or bytes"
	}
	return ""
}

var unitOfTime = map[string]bool{"second": true, "minute": true, "hour": true, "day": true, "week": true}

// filling reads "{ key [timeout t] [statement] [: data] }" behind the name of a set that a rule fills, and returns why it is none.
func (s *state) filling() string {
	if !s.accept("{") {
		return "what is put into the set is missing"
	}
	for {
		_, n := operandAt(s.left())
		if n == 0 {
			return "an operand was expected"
		}
		s.i += n
		if s.accept("&", "|", "^") {
			s.i++
		}
		if !s.accept(".") {
			break
		}
	}
	for s.i < len(s.t) {
		switch {
		case s.accept("}"):
			return ""
		case s.accept(":"):
			s.skipValue(anyName)
		case s.accept("timeout", "expires"):
			if !span(s.take().Text) {
				return "a timeout is a span of time"
			}
		case s.accept("comment"):
			s.take()
		case s.accept("limit"):
			if why := s.rate("limit"); why != "" {
				return why
			}
		case s.accept("quota"):
			if why := s.rate("quota"); why != "" {
				return why
			}
		case s.accept("counter"):
			s.counter()
		case s.accept("last"):
			s.accept("used")
		case s.accept("ct"):
			if why := s.connections(); why != "" {
				return why
			}
		default:
			return fmt.Sprintf("%q was not expected here", source.Clean(s.peek().Text))
		}
	}
	return "a closing brace is missing"
}

// connections reads "count [over] n" behind "ct", and returns why it is not that.
func (s *state) connections() string {
	if !s.accept("count") {
		return "\"ct count\" was expected"
	}
	s.accept("over")
	if !number(s.take().Text) {
		return "a number of connections was expected"
	}
	return ""
}

// assignable are what a rule may set, beside marks.
var assignable = map[string]bool{
	"meta priority":  true,
	"meta pkttype":   true,
	"meta nftrace":   true,
	"meta secmark":   true,
	"ct label":       true,
	"ct zone":        true,
	"ct event":       true,
	"ct helper":      true,
	"ct timeout":     true,
	"ct expectation": true,
	"ct secmark":     true,
}

// refusal reads what stands behind "reject", and returns why it is not a valid statement; "" where it is.
func (s *state) refusal() string {
	if !s.accept("with") {
		return ""
	}
	if s.accept("tcp") {
		if !s.accept("reset") {
			return "TCP is rejected with a reset"
		}
		return ""
	}
	if !s.accept("icmp", "icmpv6", "icmpx") {
		return "a rejection is by ICMP or by a TCP reset"
	}
	s.accept("type")
	if t := s.take(); !name(t.Text) && !number(t.Text) || keywords()[t.Text] {
		return fmt.Sprintf("%q is not a code of ICMP", source.Clean(t.Text))
	}
	return ""
}

// rewritable reports whether a field of a header can be set.
func rewritable(t []token) bool {
	o, n := operandAt(t)
	return n == len(t) &&
		(o.opaque != "" || o.field == packet.Src || o.field == packet.Dst || o.field == packet.Sport || o.field == packet.Dport ||
			o.field == packet.Proto)
}
