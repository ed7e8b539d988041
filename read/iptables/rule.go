package iptables

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"toril/gateway"
	"toril/packet"
	"toril/read"
	"toril/read/values"
	"toril/source"
)

// modules are the matches that are outside of the model.
var modules = map[string]bool{"addrtype": true, "ah": true, "bpf": true, "cgroup": true, "cluster": true, "connbytes": true, "connlabel": true, "connlimit": true, "connmark": true,
	"cpu": true, "dscp": true, "devgroup": true, "dst": true, "ecn": true, "esp": true, "eui64": true, "frag": true, "hashlimit": true, "hbh": true, "helper": true, "hl": true, "ipv6header": true,
	"length": true, "limit": true, "mac": true, "mh": true, "nfacct": true, "osf": true, "owner": true, "physdev": true, "pkttype": true, "quota": true, "rateest": true, "realm": true,
	"recent": true, "rpfilter": true, "rt": true, "socket": true, "statistic": true, "string": true, "tcpmss": true, "time": true, "tos": true, "ttl": true, "u32": true}

func sortedModules() []string { return slices.Sorted(maps.Keys(modules)) }

// passing are the targets behind which the next rule is asked, and which change nothing that the model knows.
var passing = map[string]bool{"AUDIT": true, "CHECKSUM": true, "CLASSIFY": true, "CONNSECMARK": true, "DSCP": true, "ECN": true, "HL": true, "IDLETIMER": true, "LED": true, "RATEEST": true,
	"SECMARK": true, "SET": true, "SYNPROXY": true, "TCPMSS": true, "TCPOPTSTRIP": true, "TOS": true, "TRACE": true, "TTL": true}

func sortedTargets() []string { return slices.Sorted(maps.Keys(passing)) }

// state is a rule on its way from words to the model.
type state struct {
	*reader
	n      int
	chain  *gateway.Chain
	w      []string
	i      int
	not    bool
	module string
	rule   gateway.Rule
	from   netip.Prefix // -s and -d where they are one network: what NETMAP moves
	onto   netip.Prefix
	policy policy
}

// policy is what "-m policy" says.
type policy struct {
	said      bool
	out, none bool
	peer      packet.Values
	hasPeer   bool
	not       bool
	next      bool
	mode      string
	more      string // what else it says
}

func (r *reader) rule(n int, c *gateway.Chain, packets string, w []string) []*gateway.Rule {
	s := &state{reader: r, n: n, chain: c, w: w}
	s.rule.At, s.rule.When = r.in.At(n), packet.Only(r.packetFamily())
	if packets != "" {
		s.rule.Counter = true
		s.rule.Packets, _ = strconv.ParseUint(packets, 10, 64)
	}
	base := s.rule.When
	if packet.Guard(func() {
		for s.i < len(s.w) {
			s.step()
		}
		s.finishPolicy()
	}) != nil { // which packets it is for is not known: it may do anything
		s.rule = gateway.Rule{At: s.rule.At, When: base, Verb: gateway.UnknownAction, Unread: true, Unsure: []string{read.TooLarge}}
		r.in.Unread(n, c.ID(), "%s", read.TooLarge)
	}
	return []*gateway.Rule{&s.rule}
}

// take returns the next word, with "!" before it noted.
func (s *state) take() string {
	if s.i >= len(s.w) {
		return ""
	}
	s.i++
	return s.w[s.i-1]
}

// value returns the value of an option; "!" may stand before it, as older versions write it.
func (s *state) value() string {
	if s.i < len(s.w) && s.w[s.i] == "!" {
		s.not = !s.not
		s.i++
	}
	return s.take()
}

func (s *state) unread(format string, args ...any) {
	why := source.Clean(fmt.Sprintf(format, args...))
	s.in.Unread(s.n, s.chain.ID(), "%s", why)
	s.rule.Unsure, s.rule.Unread = append(s.rule.Unsure, why), true
}

func (s *state) unsure(what string) {
	if !slices.Contains(s.rule.Unsure, what) {
		s.rule.Unsure = append(s.rule.Unsure, what)
	}
}

// narrow keeps the packets of a set, or, behind "!", the others; base are those that the condition is about at all.
func (s *state) narrow(base, set packet.Set) {
	if s.not {
		set = base.Minus(set)
	}
	s.rule.When = s.rule.When.And(set)
}

// field narrows by one field, its values read from a list with commas.
func (s *state) field(base packet.Set, f packet.Field, text string, parse func(string) (packet.Values, error)) {
	var all []packet.Values
	for part := range strings.SplitSeq(text, ",") {
		v, err := parse(part)
		if err != nil {
			s.unread("%v", err)
			return
		}
		all = append(all, v)
	}
	s.narrow(base, base.With(f, packet.Join(all...)))
}

func (s *state) step() {
	s.not = false
	if s.w[s.i] == "!" {
		s.not = true
		s.i++
	}
	opt := s.take()
	switch opt {
	case "-s", "--source", "--src":
		s.address(packet.Src, s.value())
	case "-d", "--destination", "--dst":
		s.address(packet.Dst, s.value())
	case "-i", "--in-interface":
		s.iface(packet.In)
	case "-o", "--out-interface":
		s.iface(packet.Out)
	case "-p", "--protocol", "--proto":
		if opt == "--proto" && s.module == "policy" {
			s.policyOption(opt)
			return
		}
		if t := s.value(); t != "all" && t != "0" {
			s.field(packet.Only(s.packetFamily()), packet.Proto, strings.ToLower(t), values.Protocols)
		}
	case "-m", "--match":
		s.module = s.take()
		if s.module == "policy" {
			s.policy.said = true
		} else if modules[s.module] { // also without an option: rpfilter, socket, limit and their like have a meaning then
			s.unsure("module " + s.module)
		} else if !modelled[s.module] {
			s.unread("module %q is not known", s.module)
		}
	case "-j", "--jump", "-g", "--goto":
		s.target(s.take(), opt == "-g" || opt == "--goto")
	case "-f", "--fragment":
		s.unsure("fragments")
	case "-c", "--set-counters":
		s.rule.Counter = true
		s.rule.Packets, _ = strconv.ParseUint(s.take(), 10, 64)
		s.take()
	case "-4", "--ipv4", "-6", "--ipv6":
	default:
		s.option(opt)
	}
}

var modelled = map[string]bool{"tcp": true, "udp": true, "udplite": true, "sctp": true, "dccp": true, "icmp": true, "icmp6": true, "ipv6-icmp": true, "conntrack": true, "state": true,
	"multiport": true, "set": true, "iprange": true, "mark": true, "comment": true, "policy": true}

func (s *state) address(f packet.Field, text string) {
	fam := s.packetFamily()
	s.field(packet.Only(fam), f, text, func(t string) (packet.Values, error) {
		if p, err := netip.ParsePrefix(t); err == nil && p.Bits() == 0 {
			t = "*"
		}
		return values.Addresses(t, fam)
	})
	if ps := s.rule.When.Prefixes(f); len(ps) == 1 && !s.not {
		if f == packet.Src {
			s.from = ps[0]
		} else {
			s.onto = ps[0]
		}
	}
}

func (s *state) iface(f packet.Field) {
	name := s.value()
	if cut, ok := strings.CutSuffix(name, "+"); ok {
		name = cut + "*"
	}
	s.narrow(packet.All(), packet.Where(f, packet.Name(name)))
}

// option reads an option of a module, or of the protocol that -p names.
func (s *state) option(opt string) {
	ported := packet.Where(packet.Proto, packet.WithPorts)
	colons := func(t string) (packet.Values, error) {
		lo, hi, ok := strings.Cut(t, ":")
		switch {
		case ok && lo == "":
			t = "0-" + hi
		case ok && hi == "":
			t = lo + "-65535"
		case ok:
			t = lo + "-" + hi
		}
		return values.Ports(t)
	}
	switch opt {
	case "--sport", "--source-port", "--sports", "--source-ports":
		s.field(ported, packet.Sport, s.value(), colons)
	case "--dport", "--destination-port", "--dports", "--destination-ports":
		s.field(ported, packet.Dport, s.value(), colons)
	case "--ports":
		t := s.value()
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
		s.icmpType(1, values.ICMPTypes, packet.IPv4)
	case "--icmpv6-type":
		s.icmpType(58, values.ICMPv6Types, packet.IPv6)
	case "--ctstate", "--state":
		s.states(s.value())
	case "--ctdir":
		s.field(packet.All(), packet.Direction, strings.ToLower(s.value()), func(t string) (packet.Values, error) {
			return values.Ranged(t, 1, map[string]uint64{"original": packet.Original, "reply": packet.Reply}, "a direction")
		})
	case "--match-set":
		s.set(s.value(), strings.Split(s.take(), ","))
	case "--src-range", "--dst-range":
		f := packet.Src
		if opt == "--dst-range" {
			f = packet.Dst
		}
		s.field(packet.Only(s.packetFamily()), f, s.value(), func(t string) (packet.Values, error) { return values.Addresses(t, s.packetFamily()) })
	case "--mark":
		if s.module != "mark" {
			s.value()
			s.unsure("the mark of the connection")
			return
		}
		s.mark(s.value())
	case "--comment":
		s.rule.Comment = source.Clean(s.take())
	case "--dir", "--pol", "--strict", "--reqid", "--spi", "--proto", "--mode", "--tunnel-src", "--tunnel-dst", "--next":
		s.policyOption(opt)
	case "--syn":
		s.unsure("tcp flags")
	case "--tcp-flags":
		s.value()
		s.take()
		s.unsure("tcp flags")
	default:
		s.foreign(opt)
	}
}

// foreign passes over an option that is outside of the model, with its values.
func (s *state) foreign(opt string) {
	for s.i < len(s.w) && !strings.HasPrefix(s.w[s.i], "-") && s.w[s.i] != "!" {
		s.i++
	}
	switch {
	case modules[s.module] || s.module == "set" && (opt == "--return-nomatch" || opt == "--update-counters" || opt == "--update-subcounters"):
		s.unsure("module " + s.module)
	case s.module == "conntrack" || s.module == "tcp" || s.module == "sctp" || s.module == "dccp":
		s.unsure(s.module + " " + opt)
	default:
		s.unread("%q is an option that is not known", opt)
	}
}

func (s *state) icmpType(proto uint64, names map[string]uint64, fam packet.Family) {
	base := packet.Only(fam).With(packet.Proto, packet.OneOf(proto))
	t, code, coded := strings.Cut(s.value(), "/")
	if t == "any" {
		s.narrow(base, base)
		return
	}
	v, err := values.Ranged(t, 255, names, "a type of ICMP")
	if err != nil {
		s.unread("%v", err)
		return
	}
	types := values.EachType(v)
	if coded {
		n, single := v.Single()
		c, err := strconv.ParseUint(code, 10, 8)
		if err != nil || !single {
			s.unread("%q is not a code of ICMP", code)
			return
		}
		types = packet.OneOf(n<<8 | c)
	}
	s.narrow(base, base.With(packet.ICMP, types))
}

func (s *state) states(text string) {
	set := packet.None()
	for word := range strings.SplitSeq(strings.ToLower(text), ",") {
		switch n, ok := values.States[word]; {
		case ok:
			set = set.Or(packet.Where(packet.State, packet.OneOf(n)))
		case word == "snat":
			set = set.Or(packet.Where(packet.Translated, packet.OneOf(1, 3)))
		case word == "dnat":
			set = set.Or(packet.Where(packet.Translated, packet.OneOf(2, 3)))
		default:
			s.unread("%q is not a connection state", word)
			return
		}
	}
	s.narrow(packet.All(), set)
}

func (s *state) set(name string, dirs []string) {
	d := s.in.Gateway.Defined("set", source.Clean(name))
	d.Used = append(d.Used, s.rule.At)
	set := s.in.Gateway.Set(name)
	if set == nil {
		s.unread("set %s was not given (the output of ipset save)", name)
		return
	}
	packets, why := matching(s.in.Gateway, set, dirs, 0)
	if why != "" {
		s.unsure(fmt.Sprintf("set %s: %s", set.Name, why))
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
		s.unread("%q is not a mark", text)
		return
	}
	got, ok := packet.Masked(uint32(v), uint32(m))
	if !ok {
		s.unsure("single bits of the mark")
		return
	}
	s.narrow(packet.All(), packet.Where(packet.Mark, got))
}

func (s *state) policyOption(opt string) {
	if s.module != "policy" {
		s.foreign(opt)
		return
	}
	p := &s.policy
	switch opt {
	case "--dir":
		p.out = s.value() == "out"
	case "--pol":
		p.none = s.value() == "none"
	case "--strict":
	case "--next":
		p.next, p.more = true, "a second transformation"
	case "--mode":
		p.mode = s.value()
	case "--tunnel-src", "--tunnel-dst":
		text := s.value()
		// the peer's end: the source of what came in, the destination of what goes out
		if p.out != (opt == "--tunnel-dst") || p.next {
			p.more = "the own end of the tunnel"
			return
		}
		v, err := values.Addresses(text, s.packetFamily())
		if err != nil {
			s.unread("%v", err)
			return
		}
		p.peer, p.hasPeer, p.not = v, true, s.not
	default:
		s.value()
		p.more = "the " + strings.TrimPrefix(opt, "--") + " of the SA"
	}
}

func (s *state) finishPolicy() {
	p := s.policy
	if !p.said {
		return
	}
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
		s.unsure("the mode of the SA")
	}
	if p.more != "" {
		s.unsure(p.more)
	}
}

// target reads what the rule does.
func (s *state) target(name string, goTo bool) {
	opts := s.targetOptions()
	switch name {
	case "ACCEPT":
		s.rule.Verb = gateway.Accept
	case "DROP":
		s.rule.Verb = gateway.Drop
	case "REJECT":
		s.rule.Verb = gateway.Reject
	case "RETURN":
		s.rule.Verb = gateway.Return
	case "QUEUE", "NFQUEUE":
		s.rule.Verb = gateway.Queue
	case "NOTRACK":
		s.rule.Verb = gateway.NoTrack
	case "CT":
		if _, ok := opts["--notrack"]; ok {
			s.rule.Verb = gateway.NoTrack
		}
	case "LOG", "NFLOG", "ULOG":
		s.rule.Log = true
	case "MARK":
		s.setMark(opts)
	case "CONNMARK":
		if _, ok := opts["--restore-mark"]; ok {
			s.rule.SetMark = &gateway.MarkChange{Mask: ^uint32(0), Any: true}
		}
	case "SNAT":
		s.rule.Verb = gateway.SourceNAT
		s.translate(opts["--to-source"])
	case "DNAT":
		s.rule.Verb = gateway.DestinationNAT
		s.translate(opts["--to-destination"])
	case "MASQUERADE", "REDIRECT":
		s.rule.Verb = gateway.Masquerade
		if name == "REDIRECT" {
			s.rule.Verb = gateway.Redirect
		}
		s.rule.To.Text = "an address of the interface"
		if t := opts["--to-ports"]; t != "" {
			v, err := values.Ports(t)
			if err != nil {
				s.unread("%v", err)
			}
			s.rule.To.Ports = v
		}
	case "NETMAP":
		s.netmap(opts["--to"])
	default:
		switch {
		case passing[name]:
		case s.chains[name] != nil || goTo || strings.ToUpper(name) != name || s.declaredLater(name):
			s.jump(name, goTo)
		default:
			s.rule.Verb = gateway.UnknownAction
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
	s.rule.Verb = gateway.Jump
	if goTo {
		s.rule.Verb = gateway.Goto
	}
	s.rule.Target = source.Clean(s.family + " " + s.table + " " + name)
	c := s.chains[name]
	if c == nil {
		d := s.in.Gateway.Defined("chain", s.rule.Target)
		d.Used = append(d.Used, s.rule.At)
		return
	}
	s.used[c] = append(s.used[c], s.rule.At)
}

// targetOptions takes the options behind a target with their values.
func (s *state) targetOptions() map[string]string {
	out := map[string]string{}
	for s.i < len(s.w) && strings.HasPrefix(s.w[s.i], "--") && s.w[s.i] != "--comment" {
		opt := s.take()
		out[opt] = ""
		if s.i < len(s.w) && (!strings.HasPrefix(s.w[s.i], "-") || opt == "--log-prefix") {
			out[opt] = s.take()
		}
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
		change := &gateway.MarkChange{Value: uint32(v), Mask: uint32(m)}
		switch {
		case err != nil || err2 != nil:
			change = &gateway.MarkChange{Mask: ^uint32(0), Any: true}
			s.unread("%q is not a mark", text)
		case opt == "--set-mark":
			change.Mask |= change.Value
		case opt == "--set-xmark":
			if change.Value&^change.Mask != 0 { // bits outside of the mask are flipped
				change = &gateway.MarkChange{Mask: ^uint32(0), Any: true}
			}
		case opt == "--or-mark":
			change.Mask = change.Value
		case opt == "--and-mark":
			change.Value, change.Mask = 0, ^change.Value
		default:
			change = &gateway.MarkChange{Mask: ^uint32(0), Any: true}
		}
		s.rule.SetMark = change
	}
}

func (s *state) translate(text string) {
	to, err := values.Target(text, s.packetFamily())
	if err != nil {
		s.unread("%v", err)
		s.rule.To.Text = "an address that was not read"
		return
	}
	to.Onto = netip.Prefix{} // a network here is not moved one to one
	s.rule.To = to
}

// netmap moves a network one to one: the source behind the routing decision, the destination before it.
func (s *state) netmap(text string) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		s.rule.Verb = gateway.UnknownAction
		s.unread("%q is not a network", text)
		return
	}
	s.rule.Verb = gateway.DestinationNAT
	from := s.onto
	if s.chain.Hook == gateway.Postrouting || s.chain.Hook == gateway.Input || s.chain.Hook == gateway.NoHook && !from.IsValid() {
		s.rule.Verb, from = gateway.SourceNAT, s.from
	}
	p = p.Masked()
	s.rule.To = gateway.Translation{Family: s.packetFamily(), Text: p.String(), Addrs: packet.Prefix(p)}
	if from.IsValid() && from.Bits() == p.Bits() {
		s.rule.To.From, s.rule.To.Onto = from, p
	}
}
