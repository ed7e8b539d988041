package iptables

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/read"
	"toril/source"
)

// modules are the matches that are outside the model.
var modules = sync.OnceValue(func() map[string]bool {
	return map[string]bool{
		"addrtype":        true,
		"ah":              true,
		"bpf":             true,
		"cgroup":          true,
		"cluster":         true,
		"connbytes":       true,
		"connlabel":       true,
		"connlimit":       true,
		"cpu":             true,
		"dscp":            true,
		"devgroup":        true,
		"dst":             true,
		"ecn":             true,
		"esp":             true,
		"eui64":           true,
		"frag":            true,
		"hashlimit":       true,
		"hbh":             true,
		"helper":          true,
		"hl":              true,
		"ipv6header":      true,
		"length":          true,
		"ipcomp":          true,
		"limit":           true,
		"mac":             true,
		"mh":              true,
		"mobility-header": true,
		"nfacct":          true,
		"osf":             true,
		"owner":           true,
		"physdev":         true,
		"pkttype":         true,
		"quota":           true,
		"rateest":         true,
		"realm":           true,
		"recent":          true,
		"rpfilter":        true,
		"rt":              true,
		"socket":          true,
		"statistic":       true,
		"string":          true,
		"tcpmss":          true,
		"time":            true,
		"tos":             true,
		"ttl":             true,
		"u32":             true,
	}
})

func sortedModules() []string { return slices.Sorted(maps.Keys(modules())) }

// passing are the targets behind which the next rule is asked, and which change nothing that the model knows.
var passing = sync.OnceValue(func() map[string]bool {
	return map[string]bool{
		"AUDIT":       true,
		"CHECKSUM":    true,
		"CLASSIFY":    true,
		"CONNSECMARK": true,
		"DSCP":        true,
		"ECN":         true,
		"HL":          true,
		"IDLETIMER":   true,
		"LED":         true,
		"RATEEST":     true,
		"SECMARK":     true,
		"SET":         true,
		"SYNPROXY":    true,
		"TCPMSS":      true,
		"TCPOPTSTRIP": true,
		"TOS":         true,
		"TRACE":       true,
		"TTL":         true,
	}
})

func sortedTargets() []string { return slices.Sorted(maps.Keys(passing())) }

// state is a rule on its way from words to the model.
type state struct {
	*reader
	n        int
	chain    *model.Chain
	w        []string
	i        int
	not      bool
	module   string
	rule     *model.Rule   // by itself, as it outlives the rest
	terms    []packet.Term // conditions that are not in the rule yet
	from     packet.Values // behind -s and -d: where it is one network, NETMAP moves it
	onto     packet.Values
	policies []policy

	said    []string // options that may stand once
	loaded  []string // modules, in their order
	used    []use
	proto   uint64 // the protocol that the rule is for; 0 where it is for several
	implied string // the module that it brings

	addressed bool // addresses stand in the rule, or its target asks for them
}

// use is an option of a module that stood; the module by its place among those that were loaded.
type use struct {
	module int
	opt    string
}

// policy is what "-m policy" says.
type policy struct {
	said      bool
	out, none bool
	peer      packet.Values
	hasPeer   bool
	not       bool
	next      bool
	strict    bool
	asked     bool // of the transformation that is being described, anything
	ends      bool // and an end of its tunnel
	mode      string
	more      string // what else it says
}

func (r *reader) rule(n int, c *model.Chain, packets string, w []string) *model.Rule {
	s := &r.one
	*s = state{
		reader: r, n: n, chain: c, w: w, rule: r.made.Next(),
		said: s.said[:0], loaded: s.loaded[:0], used: s.used[:0], terms: s.terms[:0], // in the room of the rule before
	}
	s.rule.At, s.rule.When = r.in.At(n), packet.Only(r.packetFamily())
	count(s.rule, packets)
	base := s.rule.When
	if packet.Guard(s.read) != nil { // which packets it is for is not known: it may do anything
		if r.waits() {
			return nil
		}
		*s.rule = model.Rule{At: s.rule.At, When: base, Verb: model.UnknownAction}
		r.in.Unread(r.in.At(n), s.owner(), "%s", read.TooLarge)
	}
	return s.rule
}

// count notes how many packets the counters before a rule say, "" where none stand there; those of its own hold.
func count(rule *model.Rule, packets string) {
	if packets != "" && !rule.Counter {
		rule.Counter = true
		rule.Packets, _ = strconv.ParseUint(packets, 10, 64)
	}
}

// read takes the rule's conditions and its target, one after the other.
func (s *state) read() {
	for s.i < len(s.w) {
		s.step()
	}
	s.settle()
	s.finishPolicy()
	for i, name := range s.loaded {
		var room [8]string
		used := room[:0]
		for _, u := range s.used {
			if u.module == i {
				used = append(used, u.opt)
			}
		}
		if why := unmet(name, used); why != "" {
			s.refuse("the module %s", why)
		}
	}
}

// take returns the next word, with "!" before it noted.
func (s *state) take() string {
	if s.i >= len(s.w) {
		return ""
	}
	s.i++
	return s.w[s.i-1]
}

// refuse says that the program does not take the rule, nor what it would load with it.
func (s *state) refuse(format string, args ...any) {
	s.unread(format, args...)
	s.reader.refuse(s.n, format, args...)
}

func (s *state) unread(format string, args ...any) {
	if s.waits() {
		return
	}
	s.in.Unread(s.in.At(s.n), s.owner(), "%s", source.Clean(fmt.Sprintf(format, args...)))
}

// owner is the rule, as what an unread word belongs to.
func (s *state) owner() read.Owner { return read.Owner{Name: s.chain.ID(), To: &s.rule.Doubts} }

// unsure notes a condition that the files do not decide; usually says whether most packets meet it.
func (s *state) unsure(what string, usually bool) {
	for _, d := range s.rule.Doubts {
		if d.Cause == model.Undecided && d.Why == what {
			d.Usually = usually
			return
		}
	}
	s.rule.Doubts.Add(
		&model.Doubt{Cause: model.Undecided, Gateway: s.in.Gateway.Name, At: s.rule.At, Of: s.chain.ID(), Why: what, Usually: usually},
	)
}

// mostMeet reports whether most packets meet a condition of a module, by its option; "" for the module alone.
func mostMeet(module, opt string, not bool) bool {
	switch module {
	case "limit", "quota":
		return !not
	case "rpfilter":
		return !not && opt != "--invert"
	case "hashlimit":
		return !not && opt != "--hashlimit-above"
	case "connlimit":
		return (opt == "--connlimit-above") == not
	}
	return false
}

// narrow keeps the packets of a set, or, behind "!", the others; base are those that the condition is about at all.
func (s *state) narrow(base, set packet.Set) {
	if s.not {
		set = base.Minus(set)
	}
	s.settle()
	s.rule.When = s.rule.When.And(set)
}

// settle puts the conditions that were read into the rule, in one step.
func (s *state) settle() {
	s.rule.When = s.rule.When.WithAll(s.terms...)
	s.terms = s.terms[:0]
}

// narrowBy keeps the packets that a field has one of some values of, or, behind "!", the others of those that have such a field.
func (s *state) narrowBy(base packet.Set, f packet.Field, v packet.Values) {
	if s.not {
		s.narrow(base, base.With(f, v))
		return
	}
	if f == packet.ICMP { // of one family and protocol
		s.settle()
		s.rule.When = s.rule.When.And(base)
	}
	s.terms = append(s.terms, packet.Term{Field: f, Values: v})
}

// ported are the packets that have ports.
var ported = packet.Where(packet.Proto, packet.WithPorts)

// field narrows by one field, its values read from a list with commas.
func (s *state) field(base packet.Set, f packet.Field, text string, parse func(string) (packet.Values, error)) {
	var all []packet.Values
	for part := range strings.SplitSeq(text, ",") {
		v, err := parse(part)
		if err != nil {
			s.refuse("%v", err)
			return
		}
		all = append(all, v)
	}
	s.narrowBy(base, f, packet.Join(all...))
}

// short returns the one-letter name of an option of the program itself, which may stand once; others as they are.
func (s *state) short(opt string) string {
	if len(opt) == 2 && opt != "-g" || opt == "--proto" && s.module == "policy" {
		return opt
	}
	return cmp.Or(twins()[opt], opt)
}

func (s *state) step() {
	s.not = false
	if s.w[s.i] == "!" {
		s.not = true
		if s.i++; s.i >= len(s.w) {
			s.refuse("a condition was expected behind \"!\"")
			return
		}
	}
	opt := s.take()
	once := s.short(opt)
	switch once {
	case "-s", "-d", "-i", "-o", "-p", "-j":
		if s.not && once == "-j" {
			s.refuse("there is no \"!\" before a target")
		}
		if slices.Contains(s.said, once) {
			s.refuse("%s stands twice", once)
		}
		s.said = append(s.said, once)
		if s.i >= len(s.w) {
			s.refuse("a value was expected behind %q", opt)
			return
		}
	}
	switch once {
	case "-s":
		s.address(packet.Src, s.take())
	case "-d":
		s.address(packet.Dst, s.take())
	case "-i", "-o":
		f, out := packet.In, once == "-o"
		if out {
			f = packet.Out
		}
		if h := s.chain.Hook; out && (h == model.Input || h == model.Prerouting) ||
			!out && (h == model.Output || h == model.Postrouting) {
			s.refuse("%s has no meaning in the chain %s", once, s.chain.Name)
		}
		s.iface(f)
	case "-p":
		s.protocol(strings.ToLower(s.take()))
	case "-m", "--match":
		if s.not {
			s.refuse("there is no \"!\" before a module")
		}
		s.load(s.take())
	case "-j":
		s.target(s.take(), opt == "-g" || opt == "--goto")
	case "-f", "--fragment":
		s.unsure("fragments", s.not)
	case "-c", "--set-counters":
		s.rule.Counter = true
		var err1, err2 error
		s.rule.Packets, err1 = strconv.ParseUint(s.take(), 10, 64)
		_, err2 = strconv.ParseUint(s.take(), 10, 64)
		if err1 != nil || err2 != nil {
			s.refuse("two numbers were expected behind %q", opt)
		}
	case "-4", "--ipv4", "-6", "--ipv6":
	default:
		s.option(opt)
	}
}

func (s *state) protocol(name string) {
	if name == "all" || name == "0" {
		if s.not {
			s.refuse("the rule is for no packet at all")
		}
		return
	}
	n, ok := packet.ProtoNumber(name)
	if !ok {
		v, err := strconv.ParseUint(name, 0, 8)
		n, ok = v, err == nil
	}
	if !ok {
		s.refuse("%q is not a protocol", name)
		return
	}
	if !s.not {
		s.proto = n
		s.implied = implied()[n]
	}
	s.narrowBy(packet.Only(s.packetFamily()), packet.Proto, packet.OneOf(n))
}

// implied are the modules that protocols bring.
var implied = sync.OnceValue(func() map[uint64]string {
	return map[uint64]string{
		6: "tcp", 17: "udp", 136: "udplite", 132: "sctp", 33: "dccp", 1: "icmp", 58: "icmp6", 50: "esp", 51: "ah", 108: "ipcomp", 135: "mh",
	}
})

// protocolOf are the protocols that modules are for.
var protocolOf = sync.OnceValue(func() map[string]uint64 {
	out := map[string]uint64{"icmpv6": 58, "ipv6-icmp": 58, "mobility-header": 135}
	for n, name := range implied() {
		out[name] = n
	}
	return out
})

// load reads the name of a module.
func (s *state) load(name string) {
	s.module = name
	s.loaded = append(s.loaded, name)
	if n := protocolOf()[name]; n != 0 && s.proto != n {
		s.refuse("the module %s is for its protocol only", name)
	}
	switch {
	case name == "policy":
		s.policies = append(s.policies, policy{})
	case name == "addrtype": // its options say what it is about
	case name == "multiport" && !slices.Contains([]uint64{6, 17, 136, 132, 33}, s.proto):
		s.refuse("the module multiport is for a protocol that has ports")
	case modules()[name]: // also without an option: rpfilter, socket, limit and their like have a meaning then
		s.unsure("module "+name, mostMeet(name, "", false))
	case !modelled()[name]:
		s.unread("module %q is not known", name)
	}
}

// form returns what stands behind an option: as the modules that were loaded have it, the last first, or the protocol's.
func (s *state) form(opt string) (module string, f form, ok bool) {
	for _, name := range slices.Backward(s.loaded) {
		if f, ok := forms()[name][opt]; ok {
			return name, f, true
		}
	}
	if f, ok := forms()[s.implied][opt]; ok && s.implied != "" {
		return s.implied, f, true
	}
	return "", nil, false
}

// once reports whether an option of a module stands for the first time; after "--next" the policy's may stand again.
func (s *state) once(name, opt string) bool {
	at := len(s.loaded) - 1
	for at >= 0 && s.loaded[at] != name {
		at--
	}
	if at < 0 {
		at, s.loaded = len(s.loaded), append(s.loaded, name)
	}
	one := use{at, opt}
	switch {
	case opt == "--next":
		s.used = slices.DeleteFunc(s.used, func(u use) bool { return u.module == at })
		return true
	case slices.Contains(s.used, one):
		return false
	}
	s.used = append(s.used, one)
	return true
}

var modelled = sync.OnceValue(func() map[string]bool {
	return map[string]bool{
		"tcp":       true,
		"udp":       true,
		"udplite":   true,
		"sctp":      true,
		"dccp":      true,
		"icmp":      true,
		"icmp6":     true,
		"ipv6-icmp": true,
		"connmark":  true,
		"conntrack": true,
		"state":     true,
		"multiport": true,
		"set":       true,
		"iprange":   true,
		"mark":      true,
		"comment":   true,
		"policy":    true,
	}
})

func (s *state) address(f packet.Field, text string) {
	s.addressed = true
	last := &s.nets[0]
	if f == packet.Dst {
		last = &s.nets[1]
	}
	v := last.values
	if v.Empty() || text != last.text {
		got, exact, ok := s.networks(text)
		if !ok || !exact && s.not {
			return
		}
		if v = got; exact { // what is not is said of each rule
			*last = addresses{text, v}
		}
	}
	s.narrowBy(packet.Only(s.packetFamily()), f, v)
	switch {
	case s.not:
	case f == packet.Src:
		s.from = v
	default:
		s.onto = v
	}
}

// networks reads what stands behind -s or -d; where a mask is no prefix they may be more than it says, and are not exact.
func (s *state) networks(text string) (v packet.Values, exact, ok bool) {
	fam := s.packetFamily()
	if fam == packet.IPv4 {
		if v, ok := literal.Four(text); ok {
			return v, true, true
		}
	}
	var all []packet.Values
	exact = true
	for t := range strings.SplitSeq(text, ",") {
		if fam == packet.IPv4 {
			t = plainNetwork(t, true)
		}
		if strings.ContainsAny(t, "-*") { // a range, which only a module takes, a name, or a word of other formats
			s.refuse("%q is not an IPv%d address or network", t, fam)
			return v, false, false
		}
		if p, err := netip.ParsePrefix(t); err == nil && p.Bits() == 0 && p.Addr().Is4() == (fam == packet.IPv4) {
			t = "*"
		}
		one, err := literal.Addresses(t, fam)
		if err != nil {
			wide, all, ok := masked(t, fam)
			switch {
			case !ok:
				s.refuse("%v", err)
				return v, false, false
			case !all:
				s.unsure("a mask that is no prefix", false)
				if exact = false; s.not {
					return v, false, true
				}
			}
			one = wide
		}
		all = append(all, one)
	}
	return packet.Join(all...), exact, true
}

// network returns the network that addresses are; it is not valid where they are several, or none.
func (s *state) network(v packet.Values) netip.Prefix {
	if ps := packet.Only(s.packetFamily()).With(packet.Src, v).Prefixes(packet.Src); len(ps) == 1 {
		return ps[0]
	}
	return netip.Prefix{}
}

// masked reads an address under a mask that is no prefix: the addresses that have these bits, or, where those are too many ranges, the
// network that holds them all.
func masked(text string, fam packet.Family) (v packet.Values, exact, ok bool) {
	ip, under, _ := strings.Cut(text, "/")
	a, err1 := netip.ParseAddr(ip)
	m, err2 := netip.ParseAddr(under)
	if err1 != nil || err2 != nil || a.Is4() != m.Is4() || a.Is4() != (fam == packet.IPv4) {
		return v, false, false
	}
	addr, mask := a.AsSlice(), m.AsSlice()
	bit := func(b []byte, i int) bool { return b[i/8]>>(7-i%8)&1 == 1 }
	n := len(mask) * 8
	last := n // behind it no bit is asked for
	for last > 0 && !bit(mask, last-1) {
		last--
	}
	lead := 0
	for lead < last && bit(mask, lead) {
		lead++
	}
	var free []int
	for i := lead; i < last; i++ {
		if !bit(mask, i) {
			free = append(free, i)
		}
	}
	for i := range addr {
		addr[i] &= mask[i]
	}
	low, _ := netip.AddrFromSlice(addr)
	if len(free) > 10 {
		return packet.Prefix(netip.PrefixFrom(low, lead).Masked()), false, true
	}
	var all []packet.Values
	for k := range 1 << len(free) {
		b := slices.Clone(addr)
		for j, i := range free {
			if k>>j&1 == 1 {
				b[i/8] |= 1 << (7 - i%8)
			}
		}
		one, _ := netip.AddrFromSlice(b)
		all = append(all, packet.Prefix(netip.PrefixFrom(one, last)))
	}
	return packet.Join(all...), true, true
}

func (s *state) iface(f packet.Field) {
	name := s.take()
	if name == "" || len(name) > 15 {
		s.refuse("%q is not the name of an interface", name)
	}
	if cut, ok := strings.CutSuffix(name, "+"); ok {
		name = cut + "*"
	}
	s.narrowBy(packet.All(), f, packet.Name(name))
}

// colons reads a port, or a range as iptables writes it.
func colons(t string) (packet.Values, error) {
	lo, hi, ok := strings.Cut(t, ":")
	switch {
	case ok && lo == "":
		t = "0-" + hi
	case ok && hi == "":
		t = lo + "-65535"
	case ok:
		t = lo + "-" + hi
	case strings.Contains(t, "-") && literal.Services[t] == 0:
		return packet.Values{}, fmt.Errorf("%q is not a port", t)
	}
	return literal.Ports(t)
}

// option reads an option of a module, or of the protocol that -p names. It is long as a table is: a case an option.
func (s *state) option(opt string) {
	module, form, known := s.form(opt)
	switch {
	case !known && strings.HasPrefix(opt, "-"):
		s.unread("%q is an option that is not known", opt)
		for s.i < len(s.w) && !strings.HasPrefix(s.w[s.i], "-") && s.w[s.i] != "!" {
			s.i++
		}
		return
	case !known:
		s.refuse("%q was not expected here", opt)
		return
	case s.i+len(form) > len(s.w):
		s.refuse("a value was expected behind %q", opt)
		s.i = len(s.w)
		return
	}
	if !s.once(module, opt) {
		s.refuse("%s stands twice", opt)
	}
	for i, check := range form {
		if !check(s.w[s.i+i]) {
			s.refuse("%q is not a value of %s", s.w[s.i+i], opt)
			s.i += len(form)
			return
		}
	}
	if s.not && !invertible()[opt] {
		s.refuse("there is no \"!\" before %s", opt)
	}
	s.module = module
	if module == "addrtype" && strings.HasSuffix(opt, "-type") && strings.EqualFold(s.w[s.i], "LOCAL") {
		s.i += len(form)
		s.local(map[bool]packet.Field{true: packet.Src, false: packet.Dst}[opt == "--src-type"])
		return
	}
	if modules()[module] { // its options may bear the names of those of others
		s.i += len(form)
		if opt != "--limit-burst" && !strings.HasPrefix(opt, "--hashlimit-") && !strings.HasPrefix(opt, "--connlimit-") ||
			strings.HasSuffix(opt, "-above") || strings.HasSuffix(opt, "-upto") {
			s.unsure("module "+module, mostMeet(module, opt, s.not))
		}
		return
	}
	switch opt {
	case "--sport", "--source-port", "--dport", "--destination-port":
		f := packet.Sport
		if opt == "--dport" || opt == "--destination-port" {
			f = packet.Dport
		}
		text := s.take()
		v, err := colons(text)
		if err != nil || strings.Contains(text, ",") {
			s.refuse("%q is not a port", text)
			return
		}
		s.narrowBy(ported, f, v)
	case "--sports", "--source-ports":
		s.field(ported, packet.Sport, s.take(), colons)
	case "--dports", "--destination-ports":
		s.field(ported, packet.Dport, s.take(), colons)
	case "--ports":
		t := s.take()
		a, b := packet.None(), packet.None()
		for part := range strings.SplitSeq(t, ",") {
			v, err := colons(part)
			if err != nil {
				s.unread("%v", err)
				return
			}
			a, b = a.Or(ported.With(packet.Sport, v)), b.Or(ported.With(packet.Dport, v))
		}
		s.narrow(ported, a.Or(b))
	case "--icmp-type":
		s.icmpType(1, packet.IPv4)
	case "--icmpv6-type":
		s.icmpType(58, packet.IPv6)
	case "--ctstate", "--state":
		s.states(s.take())
	case "--ctdir":
		s.field(packet.All(), packet.Direction, strings.ToLower(s.take()), func(t string) (packet.Values, error) {
			return literal.Ranged(t, 1, map[string]uint64{"original": packet.Original, "reply": packet.Reply}, "a direction")
		})
	case "--match-set":
		s.set(s.take(), strings.Split(s.take(), ","))
	case "--src-range", "--dst-range":
		f := packet.Src
		if opt == "--dst-range" {
			f = packet.Dst
		}
		s.field(packet.Only(s.packetFamily()), f, s.take(), s.addressRange)
	case "--mark":
		s.mark(s.take())
	case "--comment":
		s.rule.Comment = source.Clean(s.take())
	case "--dir", "--pol", "--strict", "--reqid", "--spi", "--proto", "--mode", "--tunnel-src", "--tunnel-dst", "--next":
		s.policyOption(opt)
	case "--syn", "--tcp-flags":
		syn := opt == "--syn" || strings.Join(s.w[s.i:min(s.i+2, len(s.w))], " ") == "FIN,SYN,RST,ACK SYN"
		s.i += len(form)
		s.unsure("tcp flags", syn && !s.not)
	default:
		s.i += len(form)
		if module == "set" {
			s.unsure("module set", false)
		} else {
			s.unsure(module+" "+opt, false)
		}
	}
}

// addressRange reads an address or two with "-" between them; where the second is below the first, there is nothing in it.
func (s *state) addressRange(text string) (packet.Values, error) {
	lo, hi, ranged := strings.Cut(text, "-")
	if s.packetFamily() == packet.IPv4 {
		lo, hi = plainNetwork(lo, true), plainNetwork(hi, true)
	}
	if !ranged {
		return literal.Addresses(lo, s.packetFamily())
	}
	l, err1 := netip.ParseAddr(lo)
	h, err2 := netip.ParseAddr(hi)
	if err1 == nil && err2 == nil && l.Is4() == h.Is4() && h.Less(l) {
		return packet.Values{}, nil
	}
	return literal.Addresses(lo+"-"+hi, s.packetFamily())
}

func (s *state) icmpType(proto uint64, fam packet.Family) {
	base := packet.Only(fam).With(packet.Proto, packet.OneOf(proto))
	text := strings.ToLower(s.take())
	if text == "any" {
		s.narrow(base, base)
		return
	}
	if named, ok := icmpNames(proto)[text]; ok {
		text = named
	}
	t, code, coded := strings.Cut(text, "/")
	n, err := strconv.ParseUint(t, 0, 8)
	if err != nil {
		s.refuse("%q is not a type of ICMP", text)
		return
	}
	types := literal.EachType(packet.OneOf(n))
	if coded {
		c, err := strconv.ParseUint(code, 0, 8)
		if err != nil {
			s.refuse("%q is not a code of ICMP", code)
			return
		}
		types = packet.OneOf(n<<8 | c)
	}
	s.narrowBy(base, packet.ICMP, types)
}

func (s *state) states(text string) {
	set := packet.None()
	for word := range strings.SplitSeq(strings.ToLower(text), ",") {
		switch n, ok := literal.States[word]; {
		case ok:
			set = set.Or(packet.Where(packet.State, packet.OneOf(n)))
		case word == "snat":
			set = set.Or(packet.Where(packet.Translated, packet.OneOf(1, 3)))
		case word == "dnat":
			set = set.Or(packet.Where(packet.Translated, packet.OneOf(2, 3)))
		default:
			s.refuse("%q is not a connection state", word)
			return
		}
	}
	s.narrow(packet.All(), set)
}

func (s *state) set(name string, dirs []string) {
	if s.waits() {
		return
	}
	later := &state{reader: s.reader, n: s.n, chain: s.chain, rule: s.rule} // s is for the next rule by then
	s.sets = append(s.sets, setUse{later, name, dirs, s.not})
}

func (s *state) local(field packet.Field) {
	if s.waits() {
		return
	}
	later := &state{reader: s.reader, n: s.n, chain: s.chain, rule: s.rule} // s is for the next rule by then
	s.locals = append(s.locals, localUse{later, field, s.not})
}

// matchLocal narrows to the packets of which an address is the gateway's own, now that every file is read; where its addresses are not
// known, nothing decides it.
func (s *state) matchLocal(field packet.Field) {
	g := s.in.Gateway
	own, known := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}, g.Told.Addresses == model.Wholly
	doubts := g.Doubts(model.AboutInterfaces)
	for _, i := range g.Interfaces {
		known = known && !i.Dynamic
		doubts = doubts.And(i.Doubts)
		for _, a := range i.Addresses {
			own = append(own, netip.PrefixFrom(a.Addr(), a.Addr().BitLen()))
		}
	}
	for _, r := range g.Routes {
		if r.Kind == "local" {
			own = append(own, r.To)
		}
	}
	switch {
	case !known:
		s.unsure("module addrtype", false)
	case !doubts.Certain(): // there may be one more
		s.rule.Doubts.Add(doubts...)
	default:
		s.narrow(packet.All(), packet.Prefixes(field, own...))
	}
}

// matchSet narrows to the packets that are in a set, now that every file is read.
func (s *state) matchSet(name string, dirs []string) {
	d := s.in.Gateway.Defined("set", source.Clean(name))
	d.Used = append(d.Used, s.rule.At)
	set := s.in.Gateway.Set(name)
	if set == nil {
		s.in.Lacks(s.rule.At, s.owner(), "set %s was not given (the output of ipset save)", source.Clean(name))
		return
	}
	packets, why := matching(s.in.Gateway, set, dirs, 0)
	if why != "" {
		s.unsure(fmt.Sprintf("set %s: %s", set.Name, why), false)
		s.rule.Doubts.Add(set.Doubts...)
		return
	}
	s.narrow(packet.Only(set.Family), packets)
}

func (s *state) mark(text string) {
	value, mask, masked := strings.Cut(text, "/")
	v, err1 := strconv.ParseUint(value, 0, 32)
	m, err2 := uint64(1<<32-1), error(nil)
	if masked {
		m, err2 = strconv.ParseUint(mask, 0, 32)
	}
	if err1 != nil || err2 != nil {
		s.refuse("%q is not a mark", text)
		return
	}
	got, ok := packet.Masked(uint32(v), uint32(m))
	if !ok {
		s.unsure(model.SingleBits, false)
		s.rule.Bits = append(s.rule.Bits, model.MarkBits{Value: uint32(v), Mask: uint32(m), Not: s.not, Conn: s.module == "connmark"})
		return
	}
	f := packet.Mark
	if s.module == "connmark" {
		f = packet.ConnMark
	}
	s.narrow(packet.All(), packet.Where(f, got))
}

func (s *state) policyOption(opt string) {
	p := &s.policies[len(s.policies)-1]
	switch opt {
	case "--dir":
		p.said = true
		p.out = s.take() == "out"
		if h := s.chain.Hook; p.out && (h == model.Input || h == model.Prerouting) ||
			!p.out && (h == model.Output || h == model.Postrouting) {
			s.refuse("the direction has no meaning in the chain %s", s.chain.Name)
		}
	case "--pol":
		p.none = s.take() == "none"
	case "--strict":
		p.strict = true
	case "--next":
		s.finishTransformation(p)
		p.next, p.more, p.asked, p.ends, p.mode = true, "a second transformation", false, false, ""
	case "--mode":
		p.asked, p.mode = true, s.take()
	case "--tunnel-src", "--tunnel-dst":
		p.asked, p.ends = true, true
		text := s.take()
		// the peer's end: the source of what came in, the destination of what goes out
		if p.out != (opt == "--tunnel-dst") || p.next {
			p.more = "the own end of the tunnel"
			return
		}
		if s.packetFamily() == packet.IPv4 {
			text = plainNetwork(text, false)
		}
		v, err := literal.Addresses(text, s.packetFamily())
		if err != nil {
			s.unread("%v", err)
			return
		}
		p.peer, p.hasPeer, p.not = v, true, s.not
	default:
		s.take()
		p.asked, p.more = true, "the "+strings.TrimPrefix(opt, "--")+" of the SA"
	}
}

// finishTransformation judges what was said of one transformation, as the program does at its end.
func (s *state) finishTransformation(p *policy) {
	switch {
	case p.ends && p.mode != "tunnel":
		s.refuse("--tunnel-src and --tunnel-dst want --mode tunnel")
	case p.strict && !p.asked:
		s.refuse("--strict wants every transformation described")
	}
}

func (s *state) finishPolicy() {
	for _, p := range s.policies {
		if !p.said {
			s.refuse("the module policy wants --dir")
			continue
		}
		switch {
		case p.none && p.strict:
			s.refuse("--pol none and --strict cannot stand together")
		case p.next && !p.strict:
			s.refuse("--next wants --strict")
		default:
			s.finishTransformation(&p)
		}
		s.protected(p)
	}
}

func (s *state) protected(p policy) {
	f := packet.PeerIn
	if p.out {
		f = packet.PeerOut
	}
	none := packet.Where(f, packet.OneOf(0))
	if p.none {
		s.rule.When = s.rule.When.And(none)
		return
	}
	some := none.Not()
	if p.hasPeer {
		with := some.With(f, p.peer)
		if p.not {
			with = some.Minus(with)
		}
		some = with
	}
	s.rule.When = s.rule.When.And(some)
	if p.mode != "" && !(p.mode == "tunnel" && p.hasPeer) { // who names the tunnel's end says that it is one
		s.unsure("the mode of the SA", true)
	}
	if p.more != "" {
		s.unsure(p.more, false)
	}
}

// target reads what the rule does. It is long as a table is: a case a target.
func (s *state) target(name string, goTo bool) {
	opts := s.targetOptions(name)
	if why := misplaced(name, s.chain); why != "" && !goTo {
		s.refuse("%s", why)
	}
	switch name {
	case "ACCEPT":
		s.rule.Verb = model.Accept
	case "DROP":
		s.rule.Verb = model.Drop
	case "REJECT":
		s.rule.Verb = model.Reject
	case "RETURN":
		s.rule.Verb = model.Return
	case "QUEUE", "NFQUEUE":
		s.rule.Verb = model.Queue
	case "NOTRACK":
		s.rule.Verb = model.NoTrack
	case "CT":
		if _, ok := opts["--notrack"]; ok {
			s.rule.Verb = model.NoTrack
		}
	case "LOG", "NFLOG", "ULOG":
		s.rule.Log = true
	case "MARK":
		s.setMark(opts)
	case "CONNMARK":
		s.connMark(opts)
	case "TPROXY": // to a program of the gateway: whether one listens, no file says
		s.rule.Verb = model.UnknownAction
		s.unsure("a transparent proxy", false)
	case "SNAT":
		s.rule.Verb = model.SourceNAT
		s.translate(opts["--to-source"])
	case "DNAT":
		s.rule.Verb = model.DestinationNAT
		s.translate(opts["--to-destination"])
	case "MASQUERADE", "REDIRECT":
		s.rule.Verb = model.Masquerade
		if name == "REDIRECT" {
			s.rule.Verb = model.Redirect
		}
		to := &model.Translation{Text: "an address of the interface"}
		s.rule.To = to
		if t := opts["--to-ports"]; t != "" {
			if !s.ported() {
				s.refuse("a translation of ports is for a protocol that has ports")
			}
			v, err := literal.Ports(t)
			if err != nil {
				s.unread("%v", err)
			}
			to.Ports = v
		}
	case "NETMAP":
		s.netmap(opts["--to"])
	default:
		if s.waits() { // on which chains there are
			return
		}
		switch {
		case passing()[name] && s.chains[name] == nil && !goTo:
			if name == "TCPMSS" {
				s.rule.MSS = model.PathMSS
				if n, err := strconv.ParseUint(opts["--set-mss"], 0, 16); err == nil && n > 0 {
					s.rule.MSS = int(n)
				}
			}
		case s.chains[name] != nil || goTo || strings.ToUpper(name) != name || s.declaredLater(name):
			s.jump(name, goTo)
		default:
			s.rule.Verb = model.UnknownAction
			s.unread("target %q is not modelled", name)
		}
	}
}

// declaredLater reports whether a chain of the name is declared anywhere below: iptables-save declares all first, people
// may not.
func (s *state) declaredLater(name string) bool {
	for n := s.n + 1; n <= min(s.in.File.Lines(), s.n+1000); n++ {
		line := s.in.File.Line(n)
		if strings.HasPrefix(line, ":"+name+" ") || strings.HasPrefix(line, "-N "+name) {
			return true
		}
	}
	return false
}

func (s *state) jump(name string, goTo bool) {
	s.rule.Verb = model.Jump
	if goTo {
		s.rule.Verb = model.Goto
	}
	s.rule.Target = source.Clean(s.family + " " + s.table + " " + name)
	c := s.chains[name]
	if c == nil {
		s.jumps = append(s.jumps, jump{name, s.n})
		d := s.in.Gateway.Defined("chain", s.rule.Target)
		d.Used = append(d.Used, s.rule.At)
		return
	}
	s.reader.used[c] = append(s.reader.used[c], s.rule.At)
}

// targetOptions takes the options behind a target with their values; options of modules may stand between them.
func (s *state) targetOptions(name string) map[string]string {
	known, all := forms()[name]
	var out map[string]string
	if !all && !passing()[name] && (s.chains[name] != nil || places()[s.table][name].Hook != model.NoHook) { // a chain has no options
		return out
	}
	for s.i < len(s.w) && strings.HasPrefix(s.w[s.i], "--") {
		opt := s.w[s.i]
		form, ok := known[opt]
		if _, _, module := s.form(opt); !ok && (module || all) || twins()[opt] != "" || opt == "--match" {
			break
		}
		s.i++
		if _, twice := out[opt]; twice {
			s.refuse("%s stands twice", opt)
		}
		if out == nil {
			out = map[string]string{}
		}
		out[opt] = ""
		switch {
		case !ok: // of a target that is not modelled
			if s.i < len(s.w) && !strings.HasPrefix(s.w[s.i], "-") {
				out[opt] = s.take()
			}
		case s.i+len(form) > len(s.w):
			s.refuse("a value was expected behind %q", opt)
			return out
		default:
			for i, check := range form {
				if !check(s.w[s.i+i]) {
					s.refuse("%q is not a value of %s", s.w[s.i+i], opt)
				}
			}
			out[opt] = strings.Join(s.w[s.i:s.i+len(form)], " ")
			s.i += len(form)
		}
	}
	if why := unmet(name, slices.Collect(maps.Keys(out))); why != "" {
		s.refuse("the target %s", why)
	}
	return out
}

func (s *state) setMark(opts map[string]string) {
	for opt, text := range opts {
		value, mask, masked := strings.Cut(text, "/")
		v, err := strconv.ParseUint(value, 0, 32)
		m, err2 := uint64(1<<32-1), error(nil)
		if masked {
			m, err2 = strconv.ParseUint(mask, 0, 32)
		}
		change := &model.MarkChange{Value: uint32(v), Mask: uint32(m)}
		switch {
		case err != nil || err2 != nil:
			change = &model.MarkChange{Mask: ^uint32(0), Any: true}
			s.refuse("%q is not a mark", text)
		case opt == "--set-mark":
			change.Mask |= change.Value
		case opt == "--set-xmark":
			if change.Value&^change.Mask != 0 { // bits outside the mask are flipped
				change = &model.MarkChange{Mask: ^uint32(0), Any: true}
			}
		case opt == "--or-mark":
			change.Mask = change.Value
		case opt == "--and-mark":
			change.Value, change.Mask = 0, ^change.Value
		default:
			change = &model.MarkChange{Mask: ^uint32(0), Any: true}
		}
		s.rule.SetMark = change
	}
}

// connMark reads what CONNMARK does to the mark of the connection, or to the packet's by it.
func (s *state) connMark(opts map[string]string) {
	_, restores := opts["--restore-mark"]
	_, saves := opts["--save-mark"]
	if !restores && !saves {
		if s.setMark(opts); s.rule.SetMark != nil {
			s.rule.SetMark.Conn = true
		}
		return
	}
	change := &model.MarkChange{Mask: ^uint32(0), Copy: true, Conn: saves}
	masks := map[uint64]bool{}
	for _, opt := range []string{"--nfmask", "--ctmask", "--mask"} {
		if text, ok := opts[opt]; ok {
			n, err := strconv.ParseUint(text, 0, 32)
			if err != nil {
				s.refuse("%q is not a mask", text)
			}
			masks[n] = true
			change.Mask = uint32(n)
		}
	}
	_, nf := opts["--nfmask"]
	_, ct := opts["--ctmask"]
	if change.Any = len(masks) > 1 || nf != ct; change.Any { // bits of one that are not of the other
		change.Copy = false
	}
	s.rule.SetMark = change
}

// ported reports whether the rule is for one protocol that has ports.
func (s *state) ported() bool { return slices.Contains([]uint64{6, 17, 132, 33}, s.proto) }

func (s *state) translate(text string) {
	text, shift, shifted := strings.Cut(text, "/")
	if !shifted {
		shift = ""
	}
	to, err := literal.Target(text, s.packetFamily())
	if err != nil {
		s.unread("%v", err)
		s.rule.To = &model.Translation{Text: "an address that was not read"}
		return
	}
	if (strings.Count(text, ":") == 1 || strings.Contains(text, "]:")) && !s.ported() {
		s.refuse("a translation of ports is for a protocol that has ports")
	}
	if shifted {
		if _, err := strconv.ParseUint(shift, 10, 16); err != nil || to.Ports.Empty() {
			s.refuse("%q is not a port that others are shifted from", shift)
		}
		s.unsure("ports that are shifted", true) // which of them it becomes hangs on the port that it was
	}
	to.Onto = netip.Prefix{} // a network here is not moved one to one
	s.rule.To = &to
}

// network reads an address, or a network with its length or mask.
func network(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	if ip, mask, ok := strings.Cut(text, "/"); ok {
		a, err := netip.ParseAddr(ip)
		m, err2 := netip.ParseAddr(mask)
		if err == nil && err2 == nil && a.Is4() && m.Is4() {
			if bits, ok := literal.MaskBits(m); ok {
				return netip.PrefixFrom(a, bits), nil
			}
		}
	}
	return netip.ParsePrefix(text)
}

// netmap moves a network one to one: the source behind the routing decision, the destination before it.
func (s *state) netmap(text string) {
	p, err := network(plainNetwork(text, false))
	if err != nil {
		s.rule.Verb = model.UnknownAction
		s.unread("%q is not a network", text)
		return
	}
	s.rule.Verb, s.addressed = model.DestinationNAT, true
	from := s.network(s.onto)
	if s.chain.Hook == model.Postrouting || s.chain.Hook == model.Input || s.chain.Hook == model.NoHook && !from.IsValid() {
		s.rule.Verb, from = model.SourceNAT, s.network(s.from)
	}
	p = p.Masked()
	s.rule.To = &model.Translation{Family: s.packetFamily(), Text: p.String(), Addrs: packet.Prefix(p)}
	if s.rule.To.Onto = p; from.IsValid() && from.Bits() == p.Bits() {
		s.rule.To.From = from
	}
}
