package packet

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
)

// protoNames are the IANA protocol keywords in the lower case that people write.
var protoNames = map[uint64]string{
	0:   "hopopt",
	1:   "icmp",
	2:   "igmp",
	4:   "ipip",
	6:   "tcp",
	17:  "udp",
	33:  "dccp",
	41:  "ipv6",
	46:  "rsvp",
	47:  "gre",
	50:  "esp",
	51:  "ah",
	58:  "icmpv6",
	88:  "eigrp",
	89:  "ospf",
	94:  "ipip2",
	103: "pim",
	108: "comp",
	112: "vrrp",
	115: "l2tp",
	132: "sctp",
	136: "udplite",
}

// ProtoName returns the everyday name of a protocol number, or the number.
func ProtoName(n uint64) string {
	if name, ok := protoNames[n]; ok {
		return name
	}
	return fmt.Sprintf("protocol %d", n)
}

// ProtoNames lists the keywords of protocols that are known.
func ProtoNames() []string { return slices.Sorted(maps.Values(protoNames)) }

// ProtoNumber returns the number of a protocol by its everyday name; ok is false where it is not known.
func ProtoNumber(name string) (n uint64, ok bool) {
	name = strings.ToLower(name)
	switch name {
	case "ipv6-icmp", "icmp6":
		return 58, true
	case "ipencap", "ip-in-ip", "ipv4":
		return 4, true
	case "ipcomp":
		return 108, true
	case "ospfigp":
		return 89, true
	}
	n, ok = protoNumbers()[name]
	return n, ok
}

var protoNumbers = sync.OnceValue(func() map[string]uint64 {
	out := map[string]uint64{}
	for n, name := range protoNames {
		out[name] = n
	}
	return out
})

var stateNames = []string{"new", "established", "related", "invalid", "untracked"}

// fewParts is the number of parts that a description spells out.
const fewParts = 4

// String describes s for people in one line: "10.1.0.0/24 > 10.2.0.0/24 tcp port 443; and 2 more".
func (s Set) String() string {
	if s.Empty() {
		return "no packets"
	}
	if s.Equal(All()) {
		return "all packets"
	}
	var parts []string
	for i := range s.boxes {
		if i == fewParts {
			parts = append(parts, fmt.Sprintf("and %d more", len(s.boxes)-i))
			break
		}
		parts = append(parts, s.boxes[i].describe())
	}
	return strings.Join(parts, "; ")
}

// describe: it is long as a table is: a case a field.
func (b *box) describe() string {
	var out []string
	if b.at(Src) == nil && b.at(Dst) == nil {
		out = append(out, fmt.Sprintf("any IPv%d", b.fam))
	} else {
		out = append(out, b.addresses(Src)+" > "+b.addresses(Dst))
	}
	switch {
	case b.at(Proto) == nil:
	case (b.at(Sport) != nil || b.at(Dport) != nil) && slices.Equal(b.in(Proto), WithPorts.in()):
	default:
		out = append(out, spell(b.in(Proto), 255, func(n number) string { return ProtoName(n.lo) }))
	}
	for _, f := range []struct {
		Field
		word string
	}{{Sport, "from port"}, {Dport, "port"}} {
		if b.at(f.Field) != nil {
			out = append(out, f.word+" "+spell(b.in(f.Field), 65535, func(n number) string { return fmt.Sprint(n.lo) }))
		}
	}
	if b.at(ICMP) != nil {
		out = append(out, "type "+spellTypes(b.in(ICMP)))
	}
	for _, f := range []struct {
		Field
		word string
	}{{In, "in on"}, {Out, "out via"}} {
		if b.at(f.Field) != nil {
			if names := spellNames(b.in(f.Field)); names != "" {
				out = append(out, f.word+" "+names)
			}
		}
	}
	if b.at(State) != nil {
		var names []string
		for n, name := range stateNames {
			if among(b.in(State), small(uint64(n))) {
				names = append(names, name)
			}
		}
		out = append(out, strings.Join(names, ", "))
	}
	if b.at(Direction) != nil {
		out = append(out, map[bool]string{true: "replies", false: "not replies"}[b.in(Direction)[0].lo.lo == Reply])
	}
	if b.at(Translated) != nil {
		out = append(
			out,
			"translated "+spell(
				b.in(Translated),
				3,
				func(n number) string { return [...]string{"no", "source", "destination", "both"}[n.lo] },
			),
		)
	}
	for _, m := range []struct {
		Field
		name string
	}{{Mark, "mark "}, {ConnMark, "connection mark "}} {
		if b.at(m.Field) != nil {
			out = append(out, m.name+spell(b.in(m.Field), 1<<32-1, func(n number) string { return fmt.Sprintf("%#x", n.lo) }))
		}
	}
	for _, f := range []struct {
		Field
		yes, no, peer string
	}{{PeerIn, "decrypted", "came in the clear", " from "}, {PeerOut, "to be encrypted", "in the clear", " for "}} {
		v := b.in(f.Field)
		switch some := (interval{number{}.next(), topOf(f.Field, b.fam)}); {
		case v == nil:
		case v[len(v)-1].hi == (number{}):
			out = append(out, f.no)
		case slices.Equal(v, []interval{some}):
			out = append(out, f.yes)
		default:
			out = append(out, f.yes+f.peer+spellPeers(v))
		}
	}
	return strings.Join(out, " ")
}

// spellPeers writes addresses of peers, which are of both families at once: those of IPv4 are the numbers below 2^32.
func spellPeers(v []interval) string {
	const lastOf4 = 1<<32 - 1
	other := without([]interval{{number{}.next(), largest}}, v)
	not := ""
	if len(other) < len(v) || len(other) == len(v) && v[len(v)-1].hi == largest {
		v, not = other, "other than "
	}
	var parts []string
	for _, part := range []struct {
		in  interval
		fam Family
	}{{interval{number{}.next(), small(lastOf4)}, IPv4}, {interval{small(lastOf4 + 1), largest}, IPv6}} {
		if in := meet(v, []interval{part.in}); len(in) > 0 {
			parts = append(parts, Spell(valuesOf(in), part.fam))
		}
	}
	return not + strings.Join(parts, ", ")
}

func (b *box) addresses(f Field) string {
	if b.at(f) == nil {
		return "any"
	}
	return Spell(valuesOf(b.in(f)), b.fam)
}

// Spell writes addresses of one family as prefixes, or as ranges where those are shorter.
func Spell(v Values, fam Family) string {
	var out []string
	for i, iv := range v.in() {
		if i == 2*fewParts {
			out = append(out, fmt.Sprintf("and %d more", len(v.in())-i))
			break
		}
		if ps := valuesOf([]interval{iv}).prefixes(fam); len(ps) <= 2 {
			for _, p := range ps {
				out = append(out, spellPrefix(p))
			}
		} else {
			out = append(out, iv.lo.addr(fam).String()+"-"+iv.hi.addr(fam).String())
		}
	}
	return strings.Join(out, ", ")
}

func spellPrefix(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// spell writes numbers, with "not" where that is shorter.
func spell(in []interval, top uint64, word func(number) string) string {
	whole := []interval{{number{}, small(top)}}
	not := ""
	if other := without(whole, in); len(other) < len(in) || len(other) == 1 && len(in) == 1 && other[0].lo == other[0].hi {
		in, not = other, "not "
	}
	var out []string
	for i, iv := range in {
		if i == 2*fewParts {
			out = append(out, fmt.Sprintf("and %d more", len(in)-i))
			break
		}
		if iv.lo == iv.hi {
			out = append(out, word(iv.lo))
		} else if iv.lo.next() == iv.hi {
			out = append(out, word(iv.lo), word(iv.hi))
		} else {
			out = append(out, word(iv.lo)+"-"+word(iv.hi))
		}
	}
	return not + strings.Join(out, ", ")
}

func spellTypes(in []interval) string {
	word := func(n number) string { return fmt.Sprintf("%d/%d", n.lo>>8, n.lo&0xff) }
	var out []string
	for _, iv := range in {
		switch lo, hi := iv.lo.lo, iv.hi.lo; {
		case lo&0xff == 0 && hi&0xff == 0xff && lo>>8 == hi>>8:
			out = append(out, fmt.Sprint(lo>>8))
		case lo&0xff == 0 && hi&0xff == 0xff:
			out = append(out, fmt.Sprintf("%d-%d", lo>>8, hi>>8))
		default:
			out = append(out, spell([]interval{iv}, 65535, word))
		}
	}
	return strings.Join(out, ", ")
}

// Names are the interfaces that the packets come in or leave by, or do not, one by one: those that are named, and no patterns of names.
func (s Set) Names() []string {
	var out []string
	for _, b := range s.boxes {
		for _, f := range []Field{In, Out} {
			in := b.in(f)
			for _, iv := range slices.Concat(in, without([]interval{{number{}, largest}}, in)) {
				if name := iv.lo.name(); iv.lo == iv.hi && name != "" && !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
	}
	return out
}

// spellNames writes a set of interface names; "" where it is every name. That the empty name, which stands for the gateway
// itself, is in a set or not is only said where nothing else is.
func spellNames(in []interval) string {
	self := interval{}
	other := without(without([]interval{{number{}, largest}}, in), []interval{self})
	if len(other) == 0 {
		return ""
	}
	not := ""
	if len(other) < len(in) {
		in, not = other, "any but "
	}
	var out []string
	for _, iv := range in {
		switch {
		case iv == self && not == "":
			out = append(out, "the gateway itself")
		case iv == self:
		case iv.lo == iv.hi:
			out = append(out, iv.lo.name())
		default:
			out = append(out, iv.lo.name()+"*")
		}
	}
	return not + strings.Join(out, ", ")
}
