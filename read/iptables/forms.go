package iptables

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

	"toril/internal/lazy"
	"toril/model"
)

// form is what stands behind an option: one word a check.
type form []func(string) bool

// kinds are the checks that the tables below name.
var kinds = sync.OnceValue(func() map[string]func(string) bool {
	return map[string]func(string) bool{
		"any":    func(s string) bool { return true },
		"line":   func(s string) bool { return !strings.Contains(s, "\n") },
		"word":   lazy.Match(`^[A-Za-z0-9_.:/+,-]+$`),
		"num":    lazy.Match(`^(0x[0-9a-fA-F]+|[0-9]+)$`),
		"nums":   lazy.Match(`^[0-9]*(:[0-9]*)?$`),
		"mark":   lazy.Match(`^(0x[0-9a-fA-F]+|[0-9]+)(/(0x[0-9a-fA-F]+|[0-9]+))?$`),
		"rate":   lazy.Match(`^[0-9]+(/(s(ec(ond)?)?|m(in(ute)?)?|h(our)?|d(ay)?))?$`),
		"flags":  lazy.Match(`^,*(NONE|ALL|SYN|ACK|FIN|RST|URG|PSH)(,+(NONE|ALL|SYN|ACK|FIN|RST|URG|PSH))*,*$`),
		"dirs":   lazy.Match(`^(src|dst)(,(src|dst))*$`),
		"way":    lazy.Match(`^(in|out)$`),
		"cover":  lazy.Match(`^(none|ipsec)$`),
		"mode":   lazy.Match(`^(transport|tunnel)$`),
		"ctdir":  lazy.Match(`^(?i:original|reply)$`),
		"status": lazy.Match(`^(?i:none|expected|seen_reply|assured|confirmed)(,(?i:none|expected|seen_reply|assured|confirmed))*$`),
		"type": lazy.Match(
			`^(UNSPEC|UNICAST|LOCAL|BROADCAST|ANYCAST|MULTICAST|BLACKHOLE|UNREACHABLE|PROHIBIT|THROW|NAT|XRESOLVE)(,[A-Z]+)*$`,
		),
		"packet": lazy.Match(`^(unicast|broadcast|multicast)$`),
		"mac":    lazy.Match(`^[0-9a-fA-F]{2}(:[0-9a-fA-F]{2}){5}$`),
		"level":  lazy.Match(`^([0-7]|(?i:emerg|panic|alert|crit|err|error|warning|warn|notice|info|debug))$`),
		"ports":  lazy.Match(`^[A-Za-z0-9][A-Za-z0-9_-]*$`),
		"net": func(s string) bool {
			s = plainNetwork(s, false)
			_, err := netip.ParsePrefix(s)
			_, err2 := netip.ParseAddr(s)
			return err == nil || err2 == nil
		},
		"reject": lazy.Match(
			`^(icmp6?-[a-z-]+|tcp-rst|tcp-reset|host-unreach|net-unreach|port-unreach|proto-unreach|net-prohib|host-prohib|admin-prohib|no-route|adm-prohibited|addr-unreach|policy-fail|reject-route)$`,
		),
	}
})

// optionsOf are the options of modules and of targets (iptables-extensions(8)), each with the kinds of its words.
const optionsOf = `
tcp: sport=any source-port=any dport=any destination-port=any tcp-flags=flags,flags syn tcp-option=num
udp: sport=any source-port=any dport=any destination-port=any
udplite: sport=any source-port=any dport=any destination-port=any
dccp: sport=any source-port=any dport=any destination-port=any dccp-types=word dccp-option=num
sctp: sport=any source-port=any dport=any destination-port=any chunk-types=word,word
multiport: sports=any source-ports=any dports=any destination-ports=any ports=any
icmp: icmp-type=any
icmp6: icmpv6-type=any
conntrack: ctstate=any ctdir=ctdir ctstatus=status ctproto=word ctorigsrc=net ctorigdst=net ctreplsrc=net ctrepldst=net
conntrack: ctorigsrcport=nums ctorigdstport=nums ctreplsrcport=nums ctrepldstport=nums ctexpire=nums
state: state=any
set: match-set=any,dirs return-nomatch update-counters update-subcounters packets-eq=num packets-lt=num packets-gt=num bytes-eq=num
set: bytes-lt=num bytes-gt=num
iprange: src-range=any dst-range=any
mark: mark=mark
comment: comment=any
policy: dir=way pol=cover strict reqid=num spi=num proto=word mode=mode tunnel-src=any tunnel-dst=any next
addrtype: src-type=type dst-type=type limit-iface-in limit-iface-out
ah: ahspi=nums ahlen=num ahres
esp: espspi=nums
bpf: bytecode=any object-pinned=any
cgroup: path=any cgroup=num
cluster: cluster-total-nodes=num cluster-local-node=num cluster-local-nodemask=num cluster-hash-seed=num
connbytes: connbytes=nums connbytes-dir=word connbytes-mode=word
connlabel: label=any set
connlimit: connlimit-upto=num connlimit-above=num connlimit-mask=num connlimit-saddr connlimit-daddr
connmark: mark=mark
cpu: cpu=num
dscp: dscp=num dscp-class=word
devgroup: src-group=word dst-group=word
dst: dst-len=num dst-opts=any
ecn: ecn-tcp-cwr ecn-tcp-ece ecn-ip-ect=num
eui64:
frag: fragid=nums fraglen=num fragres fragfirst fragmore fraglast
hashlimit: hashlimit-upto=any hashlimit-above=any hashlimit=any hashlimit-burst=any hashlimit-mode=word hashlimit-srcmask=num
hashlimit: hashlimit-dstmask=num hashlimit-name=any hashlimit-htable-size=num hashlimit-htable-max=num hashlimit-htable-expire=num
hashlimit: hashlimit-htable-gcinterval=num hashlimit-rate-match hashlimit-rate-interval=any
hbh: hbh-len=num hbh-opts=any
helper: helper=any
hl: hl-eq=num hl-lt=num hl-gt=num
ipcomp: ipcompspi=nums compres
ipv6header: header=word soft
length: length=nums
limit: limit=rate limit-burst=num
mac: mac-source=mac
mh: mh-type=any
mobility-header: mh-type=any
nfacct: nfacct-name=any
osf: genre=any ttl=num log=num
owner: uid-owner=any gid-owner=any socket-exists suppl-groups
physdev: physdev-in=any physdev-out=any physdev-is-in physdev-is-out physdev-is-bridged
pkttype: pkt-type=packet
quota: quota=num
rateest: rateest1=any rateest-delta rateest-bps=any rateest-pps=any rateest-lt rateest-gt rateest-eq rateest=any rateest1-bps=any
rateest: rateest2-bps=any rateest1-pps=any rateest2-pps=any rateest2=any
realm: realm=any
recent: name=any set rsource rdest mask=net rcheck update remove seconds=num reap hitcount=num rttl
rpfilter: loose validmark accept-local invert
rt: rt-type=num rt-segsleft=nums rt-len=num rt-0-res rt-0-addrs=any rt-0-not-strict
socket: transparent nowildcard restore-skmark
statistic: mode=word probability=any every=num packet=num
string: algo=word from=num to=num string=any hex-string=any icase
tcpmss: mss=nums
time: datestart=any datestop=any timestart=any timestop=any monthdays=word weekdays=word contiguous kerneltz utc localtz
tos: tos=any
ttl: ttl-eq=num ttl-lt=num ttl-gt=num ttl=num
u32: u32=any
LOG: log-prefix=line log-level=level log-tcp-sequence log-tcp-options log-ip-options log-uid log-macdecode
NFLOG: nflog-group=num nflog-prefix=line nflog-range=num nflog-size=num nflog-threshold=num
ULOG: ulog-nlgroup=num ulog-prefix=any ulog-cprange=num ulog-qthreshold=num
REJECT: reject-with=reject
SNAT: to-source=any random random-fully persistent
DNAT: to-destination=any random persistent
MASQUERADE: to-ports=any random random-fully
REDIRECT: to-ports=any random
NETMAP: to=any
MARK: set-xmark=mark set-mark=mark and-mark=num or-mark=num xor-mark=num
CONNMARK: set-xmark=mark set-mark=mark and-mark=num or-mark=num xor-mark=num save-mark restore-mark nfmask=num ctmask=num mask=num
CONNMARK: left-shift-mark=num right-shift-mark=num
CT: notrack helper=any ctevents=any expevents=any zone=any zone-orig=any zone-reply=any timeout=any
TCPMSS: set-mss=num clamp-mss-to-pmtu
TPROXY: on-port=num on-ip=any tproxy-mark=mark
NFQUEUE: queue-num=num queue-balance=nums queue-bypass queue-cpu-fanout
CLASSIFY: set-class=any
DSCP: set-dscp=num set-dscp-class=word
TOS: set-tos=any and-tos=num or-tos=num xor-tos=num
TTL: ttl-set=num ttl-dec=num ttl-inc=num
HL: hl-set=num hl-dec=num hl-inc=num
SET: add-set=any,dirs del-set=any,dirs map-set=any,dirs exist timeout=num map-mark map-prio map-queue
CHECKSUM: checksum-fill
ECN: ecn-tcp-remove
TCPOPTSTRIP: strip-options=any
TRACE:
NOTRACK:
ACCEPT:
DROP:
RETURN:
QUEUE:
`

// inverted are the options before which "!" may stand (iptables-extensions(8)).
const inverted = `
ahlen ahspi bytes-eq cgroup chunk-types cluster-local-node cluster-local-nodemask connbytes cpu ctexpire ctorigdst
ctorigdstport ctorigsrc ctorigsrcport ctproto ctrepldst ctrepldstport ctreplsrc ctreplsrcport ctstate ctstatus
dccp-option dccp-types destination-port destination-ports dport dports dscp dscp-class dst-group dst-len dst-range
dst-type ecn-ip-ect ecn-tcp-cwr ecn-tcp-ece espspi every fragid fraglen genre gid-owner hbh-len header helper
hex-string hl-eq icmp-type icmpv6-type label length mac-source mark match-set mh-type mode monthdays mss packets-eq
path physdev-in physdev-is-bridged physdev-is-in physdev-is-out physdev-out pkt-type ports probability proto quota
rateest-eq rateest-gt rateest-lt rcheck realm remove reqid rt-len rt-segsleft rt-type set socket-exists source-port
source-ports spi sport sports src-group src-range src-type state string syn tcp-flags tcp-option tos ttl-eq tunnel-dst
tunnel-src u32 uid-owner update weekdays
`

// demandsOf is what the options of a module or target must be together (asked of iptables 1.8.9): "a|b" that one of them stands, "a^b"
// that no two of them do, "a>b" that b stands where a does, "*" that any stands.
const demandsOf = `
multiport: sports|source-ports|dports|destination-ports|ports sports^source-ports^dports^destination-ports^ports
tcp: sport^source-port dport^destination-port
udp: sport^source-port dport^destination-port
udplite: sport^source-port dport^destination-port
dccp: sport^source-port dport^destination-port
sctp: sport^source-port dport^destination-port
icmp: icmp-type
icmp6: icmpv6-type
conntrack: *
state: state
set: match-set
iprange: *
mark: mark
comment: comment
addrtype: src-type|dst-type limit-iface-in^limit-iface-out
bpf: bytecode|object-pinned
cluster: cluster-total-nodes cluster-hash-seed cluster-local-node|cluster-local-nodemask cluster-local-node^cluster-local-nodemask
connbytes: connbytes connbytes-dir connbytes-mode
connlabel: label
connlimit: connlimit-upto|connlimit-above connlimit-upto^connlimit-above
connmark: mark
cpu: cpu
dscp: dscp|dscp-class dscp^dscp-class
devgroup: *
ecn: *
frag: fragmore^fraglast
hashlimit: hashlimit-upto|hashlimit-above|hashlimit hashlimit-upto^hashlimit-above^hashlimit hashlimit-name
helper: helper
hl: * hl-eq^hl-lt^hl-gt
ipv6header: header
length: length
mac: mac-source
nfacct: nfacct-name
osf: genre
owner: uid-owner|gid-owner|socket-exists suppl-groups>gid-owner
physdev: *
pkttype: pkt-type
quota: quota
realm: realm
recent: set|rcheck|update|remove set^rcheck^update^remove reap>seconds
rt: rt-0-not-strict>rt-0-addrs rt-0-addrs>rt-type rt-0-res>rt-type
statistic: mode probability|packet every>packet probability^every probability^packet
string: algo string|hex-string string^hex-string
tcpmss: mss
time: utc^kerneltz
tos: tos
ttl: * ttl-eq^ttl-lt^ttl-gt^ttl
u32: u32
SNAT: to-source
DNAT: to-destination
NETMAP: to
MARK: * set-xmark^set-mark^and-mark^or-mark^xor-mark
CONNMARK: set-xmark|set-mark|and-mark|or-mark|xor-mark|save-mark|restore-mark
CONNMARK: set-xmark^set-mark^and-mark^or-mark^xor-mark^save-mark^restore-mark nfmask^mask ctmask^mask
TCPMSS: *
TPROXY: on-port
NFQUEUE: queue-num^queue-balance queue-cpu-fanout>queue-balance
CLASSIFY: set-class
DSCP: * set-dscp^set-dscp-class
TOS: * set-tos^and-tos^or-tos^xor-tos
TTL: * ttl-set^ttl-dec^ttl-inc
HL: * hl-set^hl-dec^hl-inc
SET: add-set|del-set|map-set
CHECKSUM: *
ECN: *
`

// demand is one of them.
type demand struct {
	some, only bool     // any option at all; no more than one of those named
	first      string   // where this one stands, one of those named must
	options    []string // without their "--"
}

// demands are those, by module or target.
var demands = sync.OnceValue(func() map[string][]demand {
	out := map[string][]demand{}
	for line := range strings.Lines(strings.TrimSpace(demandsOf)) {
		owner, rest, _ := strings.Cut(strings.TrimSpace(line), ":")
		for _, text := range strings.Fields(rest) {
			d := demand{some: text == "*", only: strings.Contains(text, "^")}
			if first, then, ok := strings.Cut(text, ">"); ok {
				d.first, text = first, then
			}
			d.options = strings.FieldsFunc(text, func(c rune) bool { return c == '|' || c == '^' })
			out[owner] = append(out[owner], d)
		}
	}
	out["icmpv6"], out["ipv6-icmp"] = out["icmp6"], out["icmp6"]
	return out
})

// unmet returns what the options of a module or target, with their "--", lack or have too much; "" where nothing.
func unmet(owner string, used []string) string {
	has := func(o string) bool {
		for _, u := range used {
			if strings.TrimPrefix(u, "--") == o {
				return true
			}
		}
		return false
	}
	wanted := demands()[owner]
	for i := range wanted {
		d := &wanted[i]
		if d.some {
			if len(used) == 0 {
				return owner + " wants an option"
			}
			continue
		}
		if d.first != "" && !has(d.first) {
			continue
		}
		n := 0
		for _, o := range d.options {
			if has(o) {
				n++
			}
		}
		switch {
		case d.only && n > 1:
			there := slices.DeleteFunc(slices.Clone(d.options), func(o string) bool { return !has(o) })
			return fmt.Sprintf("%s: --%s cannot stand together", owner, strings.Join(there, " and --"))
		case d.only || n > 0:
		case d.first != "":
			return fmt.Sprintf("%s: --%s wants --%s", owner, d.first, d.options[0])
		default:
			return fmt.Sprintf("%s wants --%s", owner, strings.Join(d.options, " or --"))
		}
	}
	return ""
}

var invertible = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(inverted) {
		out["--"+w] = true
	}
	return out
})

// forms are those options, read when the first file is.
var forms = sync.OnceValue(func() map[string]map[string]form {
	out := map[string]map[string]form{}
	for line := range strings.Lines(strings.TrimSpace(optionsOf)) {
		owner, rest, _ := strings.Cut(strings.TrimSpace(line), ":")
		if out[owner] == nil {
			out[owner] = map[string]form{}
		}
		for _, o := range strings.Fields(rest) {
			name, words, valued := strings.Cut(o, "=")
			f := form{}
			if valued {
				for k := range strings.SplitSeq(words, ",") {
					f = append(f, kinds()[k])
				}
			}
			out[owner]["--"+name] = f
		}
	}
	out["icmpv6"], out["ipv6-icmp"] = out["icmp6"], out["icmp6"]
	return out
})

// twins are options of the program itself that may stand once.
var twins = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"--source":        "-s",
		"--src":           "-s",
		"--destination":   "-d",
		"--dst":           "-d",
		"--in-interface":  "-i",
		"--out-interface": "-o",
		"--protocol":      "-p",
		"--proto":         "-p",
		"--jump":          "-j",
		"--goto":          "-j",
		"-g":              "-j",
	}
})

// belongs are the tables that a target may stand in, and the base chains of them; what has none may stand anywhere.
var belongs = map[string]struct {
	tables []string
	hooks  []model.Hook
}{
	"SNAT":        {[]string{"nat"}, []model.Hook{model.Postrouting, model.Input}},
	"MASQUERADE":  {[]string{"nat"}, []model.Hook{model.Postrouting}},
	"DNAT":        {[]string{"nat"}, []model.Hook{model.Prerouting, model.Output}},
	"REDIRECT":    {[]string{"nat"}, []model.Hook{model.Prerouting, model.Output}},
	"NETMAP":      {[]string{"nat"}, nil},
	"REJECT":      {[]string{"filter"}, []model.Hook{model.Input, model.Forward, model.Output}},
	"DROP":        {[]string{"filter", "mangle", "raw", "security"}, nil},
	"CT":          {[]string{"raw"}, nil},
	"NOTRACK":     {[]string{"raw"}, nil},
	"TCPMSS":      {nil, []model.Hook{model.Forward, model.Output, model.Postrouting}},
	"TPROXY":      {[]string{"mangle"}, []model.Hook{model.Prerouting}},
	"CLASSIFY":    {[]string{"mangle"}, []model.Hook{model.Forward, model.Output, model.Postrouting}},
	"DSCP":        {[]string{"mangle"}, nil},
	"TOS":         {[]string{"mangle"}, nil},
	"TTL":         {[]string{"mangle"}, nil},
	"HL":          {[]string{"mangle"}, nil},
	"ECN":         {[]string{"mangle"}, nil},
	"TCPOPTSTRIP": {[]string{"mangle"}, nil},
	"CHECKSUM":    {[]string{"mangle"}, nil},
}

// misplaced returns why a target cannot stand in a chain; "" where it can.
func misplaced(target string, c *model.Chain) string {
	b, ok := belongs[target]
	switch {
	case !ok:
	case b.tables != nil && !slices.Contains(b.tables, c.Table):
		return target + " has no place in the table " + c.Table
	case c.Hook != model.NoHook && b.hooks != nil && !slices.Contains(b.hooks, c.Hook):
		return target + " has no place in the chain " + c.Name
	}
	return ""
}

// typeNames are the names of types and codes of ICMP, as iptables and ip6tables have them.
const typeNames = `
1: echo-reply=0 pong=0 destination-unreachable=3 network-unreachable=3/0 host-unreachable=3/1 protocol-unreachable=3/2
1: port-unreachable=3/3 fragmentation-needed=3/4 source-route-failed=3/5
1: network-unknown=3/6 host-unknown=3/7 network-prohibited=3/9 host-prohibited=3/10 tos-network-unreachable=3/11
1: tos-host-unreachable=3/12 communication-prohibited=3/13
1: host-precedence-violation=3/14 precedence-cutoff=3/15 source-quench=4 redirect=5 network-redirect=5/0 host-redirect=5/1
1: tos-network-redirect=5/2 tos-host-redirect=5/3
1: echo-request=8 ping=8 router-advertisement=9 router-solicitation=10 time-exceeded=11 ttl-exceeded=11 ttl-zero-during-transit=11/0
1: ttl-zero-during-reassembly=11/1
1: parameter-problem=12 ip-header-bad=12/0 required-option-missing=12/1 timestamp-request=13 timestamp-reply=14
1: address-mask-request=17 address-mask-reply=18
58: destination-unreachable=1 no-route=1/0 communication-prohibited=1/1 beyond-scope=1/2 address-unreachable=1/3
58: port-unreachable=1/4 failed-policy=1/5 reject-route=1/6
58: packet-too-big=2 time-exceeded=3 ttl-exceeded=3 ttl-zero-during-transit=3/0 ttl-zero-during-reassembly=3/1 parameter-problem=4
58: bad-header=4/0 unknown-header-type=4/1
58: unknown-option=4/2 echo-request=128 ping=128 echo-reply=129 pong=129 router-solicitation=133 router-advertisement=134
58: neighbour-solicitation=135 neighbor-solicitation=135
58: neighbour-advertisement=136 neighbor-advertisement=136 redirect=137
`

// icmpNames are those of ICMP (1) or ICMPv6 (58): "type" or "type/code" by name.
func icmpNames(proto uint64) map[string]string { return typesByName()[proto] }

var typesByName = sync.OnceValue(func() map[uint64]map[string]string {
	out := map[uint64]map[string]string{1: {}, 58: {}}
	for line := range strings.Lines(strings.TrimSpace(typeNames)) {
		proto, rest, _ := strings.Cut(line, ":")
		n, _ := strconv.ParseUint(proto, 10, 64)
		for _, one := range strings.Fields(rest) {
			name, number, _ := strings.Cut(one, "=")
			out[n][name] = number
		}
	}
	return out
})
