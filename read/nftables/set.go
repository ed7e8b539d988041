package nftables

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"toril/packet"
	"toril/source"
	"toril/syntax/nft"
)

var setFlags = map[string]bool{"constant": true, "interval": true, "timeout": true, "dynamic": true}

// settingsOfSets are the settings beside type, flags and elements, and what may stand behind each.
var settingsOfSets = map[string]func([]token) bool{
	"size": just(
		number,
	), "timeout": just(span), "gc-interval": just(span), "policy": just(oneOf("performance", "memory")),
	"comment":    just(func(string) bool { return true }),
	"auto-merge": func(t []token) bool { return len(t) == 0 }, "counter": whatever, "quota": whatever, "limit": whatever, "ct": whatever,
	"last": whatever,
}

func whatever(t []token) bool { return true }

func just(form check) func([]token) bool {
	return func(t []token) bool { return len(t) == 1 && form(t[0].Text) }
}

// typed are the types of sets that the model has operands for.
var typed = sync.OnceValue(func() map[string][]string {
	return map[string][]string{
		"ipv4_addr":    {"ip", "saddr"},
		"ipv6_addr":    {"ip6", "saddr"},
		"inet_service": {"th", "dport"},
		"inet_proto":   {"meta", "l4proto"},
		"mark": {
			"meta",
			"mark",
		},
		"ifname":      {"iifname"},
		"iface_index": {"iif"},
		"ether_addr":  {"ether", "saddr"},
		"icmp_type":   {"icmp", "type"},
		"icmpv6_type": {"icmpv6", "type"},
		"ct_state":    {"ct", "state"},
		"ct_dir":      {"ct", "direction"},
	}
})

// typesWithoutParser are types of sets whose elements are not parsed.
var typesWithoutParser = map[string]bool{
	"ether_type":   true,
	"icmp_code":    true,
	"icmpv6_code":  true,
	"icmpx_code":   true,
	"ct_status":    true,
	"ct_label":     true,
	"ct_id":        true,
	"ct_event":     true,
	"realm":        true,
	"classid":      true,
	"iface_type":   true,
	"uid":          true,
	"gid":          true,
	"cgroupsv2":    true,
	"pkt_type":     true,
	"fib_addrtype": true,
	"dscp":         true,
	"ecn":          true,
	"integer":      true,
	"string":       true,
	"boolean":      true,
	"tcp_flag":     true,
	"time":         true,
	"day":          true,
	"hour":         true,
	"devgroup":     true,
	"packetlength": true,
	"nf_proto":     true,
	"ip_address":   true,
	"arp_op":       true,
	"dccp_pkttype": true,
	"mh_type":      true,
	"ll_addr":      true,
}

// shape reads the types of a set: of its keys, and behind a colon of its data.
func (s *set) shape(t []token, one func([]token) (operand, int)) {
	part := func() []operand {
		var out []operand
		for {
			o, n := one(t)
			if n == 0 {
				if s.odd = "the type of a set ends too soon"; len(t) > 0 {
					s.odd = fmt.Sprintf("%q is not a type of what a set holds", source.Clean(t[0].Text))
				}
				return nil
			}
			out = append(out, o)
			if t = t[n:]; len(t) == 0 || !t[0].Is(".") {
				return out
			}
			t = t[1:]
		}
	}
	if len(t) == 0 {
		s.odd = "a set has no type"
		return
	}
	s.key = part()
	if s.odd == "" && len(t) > 0 && t[0].Is(":") {
		if t = t[1:]; len(t) > 0 && t[0].Is("interval") {
			t = t[1:]
		}
		if len(t) == 1 && t[0].Is("verdict") {
			s.verdicts = true
			return
		}
		if len(t) == 1 && slices.Contains([]string{"counter", "quota", "limit", "secmark", "synproxy"}, t[0].Text) ||
			len(t) == 2 && t[0].Is("ct") {
			return
		}
		s.data = part()
	}
	if s.odd == "" && len(t) > 0 {
		s.odd = fmt.Sprintf("%q was not expected behind the type of a set", source.Clean(t[0].Text))
	}
}

// named reads the name of a type.
func named(t []token) (operand, int) {
	if len(t) == 0 {
		return operand{}, 0
	}
	if words := typed()[t[0].Text]; words != nil {
		as := make([]token, len(words))
		for i, w := range words {
			as[i] = token{Kind: nft.Word, Text: w}
		}
		o, _ := operandAt(as)
		return o, 1
	}
	if typesWithoutParser[t[0].Text] {
		return opaque(either(number, anyName), "a set of type %s", t[0].Text), 1
	}
	return operand{}, 0
}

// spelledOut reads the operand that gives a type, as behind the word typeof.
func spelledOut(t []token) (operand, int) {
	if len(t) == 0 {
		return operand{}, 0
	}
	if len(t) > 1 && t[1].Is("verdict") {
		return operand{}, 0
	}
	return operandAt(t)
}

// serves reports whether a set can be asked about such operands.
func (s *set) serves(ops []operand) bool {
	if s.key == nil {
		return true
	}
	if len(s.key) != len(ops) {
		return false
	}
	class := func(o operand) string {
		switch {
		case o.opaque != "" || o.set != nil:
			return ""
		case o.field == packet.Src || o.field == packet.Dst:
			return fmt.Sprint("addresses of ", o.base.Families())
		case o.field == packet.Sport || o.field == packet.Dport:
			return "ports"
		}
		return fmt.Sprint("field ", o.field)
	}
	for i, o := range ops {
		if a, b := class(o), class(s.key[i]); a != "" && b != "" && a != b {
			return false
		}
	}
	return true
}

// complaint returns what is wrong with a set, and the line of it; "" where nothing is.
func (s *set) complaint() (at source.Pos, why string) {
	if s.odd != "" {
		return s.at, s.odd
	}
	if s.key == nil {
		return s.at, "a set has no type"
	}
	for _, e := range s.elements {
		if why := s.holds(e); why != "" {
			return on(s.in, e[0].Place), why
		}
	}
	return source.Pos{}, ""
}

// holds returns why a set cannot hold an element; "" where it can.
func (s *set) holds(e []token) string {
	key, data := e, []token(nil)
	if i := slices.IndexFunc(e, func(t token) bool { return t.Kind == nft.Mark && t.Text == ":" }); i >= 0 {
		key, data = e[:i], e[i+1:]
	}
	if len(key) == 0 {
		return "an element has no key"
	}
	if !(s.isMap && len(key) == 1 && key[0].Is("*")) {
		if why := fits(s.key, key); why != "" {
			return why
		}
	}
	if !s.interval && !s.dynamic && slices.ContainsFunc(key, func(t token) bool {
		return t.Kind == nft.Word &&
			(strings.Contains(t.Text, "/") || t.Text == "-" || strings.Contains(t.Text, "-") &&
				strings.ContainsAny(t.Text[:1], "0123456789"))
	}) {
		return "a range or a prefix in a set without the flag interval"
	}
	switch {
	case s.isMap == (data == nil):
		return "an element of a map is a key and a value, one of a set a key only"
	case s.verdicts:
		return verdictOf(data)
	case s.data != nil:
		return fits(s.data, data)
	}
	return ""
}

// verdictOf returns why tokens are no verdict; "" where they are.
func verdictOf(t []token) string {
	switch {
	case len(t) == 1 && slices.Contains([]string{"accept", "drop", "return", "continue", "queue"}, t[0].Text),
		len(t) == 2 && (t[0].Is("jump") || t[0].Is("goto")) && t[1].Kind == nft.Word:
		return ""
	case len(t) == 0:
		return "a verdict was expected"
	}
	return fmt.Sprintf("%q is not a verdict", source.Clean(t[0].Text))
}
