//go:build lab

package kernel

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"

	"toril/packet"
)

// generator makes random gateways and packets.
type generator struct{ *rand.Rand }

func (g generator) one(of ...string) string { return of[g.IntN(len(of))] }

func (g generator) chance(percent int) bool { return g.IntN(100) < percent }

// rule is a rule in words that both languages can say.
type rule struct {
	src, dst, proto, dport, in, out, state, policy, mark string // "!" in front turns a condition round; a mark may be "1/1", some bits
	ctmark                                               string // the mark of the connection, likewise
	do                                                   string // "accept", "drop", "return", "jump a", "mark 5", "ctmark 5", "save", "restore", "masquerade", "snat A",
	// "dnat A[:P]", "netmap A" of whole networks
}

// scene is one random gateway.
type scene struct {
	iptables bool
	chains   map[string][]rule // by place: "pre-filter", "pre-nat", "forward", "forward2", "input", "post-filter", "post-nat", "a"
	policies map[string]string // of base chains
	routes   []string          // lines for ip -batch, besides the plain ones
	children string            // of swanctl.conf
}

var networks = []string{
	"10.1.0.0/24",
	"10.1.9.0/24",
	"10.1.0.0/16",
	"10.1.0.12",
	"10.2.0.0/16",
	"10.2.0.0/24",
	"10.2.0.5",
	"10.3.0.0/16",
	"203.0.113.0/24",
	"198.51.100.0/24",
}

func (g generator) not(s string, percent int) string {
	if s != "" && g.chance(percent) {
		return "!" + s
	}
	return s
}

// conditions fills some conditions of a rule that may stand at a hook.
func (g generator) conditions(hook string) rule {
	var r rule
	if g.chance(45) {
		r.src = g.not(g.one(networks[:4]...), 15)
	}
	if g.chance(50) {
		r.dst = g.not(g.one(networks[4:]...), 15)
	}
	if g.chance(45) {
		r.proto = g.one("tcp", "udp", "icmp")
		if r.proto != "icmp" && g.chance(60) {
			r.dport = g.not(g.one("22", "53", "80", "443", "53-80", "22,443"), 10)
		}
	}
	if g.chance(15) && hook != "post" {
		r.in = g.not(g.one("lan0", "wan0"), 20)
	}
	if g.chance(25) && (hook == "forward" || hook == "post") {
		r.out = g.not(g.one("wan0", "alt0"), 20)
	}
	if g.chance(8) {
		r.state = g.one("new", "established", "new,related")
	}
	if g.chance(10) && (hook == "forward" || hook == "post") {
		r.policy = g.one("out", "!out")
	}
	if g.chance(8) && hook != "pre" {
		r.mark = g.not(g.one("5", "5", "1/1", "2/2"), 30)
	}
	if g.chance(8) && hook != "nat" {
		r.ctmark = g.not(g.one("5", "5", "4/4", "2/6"), 30)
	}
	return r
}

func (g generator) filter(hook string, n int) []rule {
	var out []rule
	for range g.IntN(n + 1) {
		r := g.conditions(hook)
		switch k := g.IntN(100); {
		case k < 45:
			r.do = "accept"
		case k < 75:
			r.do = "drop"
		case k < 85 && hook == "forward":
			r.do = g.one("jump a", "jump b")
		case k < 92:
			r.do = "return"
		default:
			r.do = g.one("mark 5", "ctmark 5", "ctmark 6", "save", "restore")
		}
		out = append(out, r)
	}
	return out
}

func (g generator) nat(hook string) []rule {
	var out []rule
	for range g.IntN(4) {
		r := g.conditions(hook)
		r.state, r.mark, r.ctmark = "", "", ""
		switch k := g.IntN(100); {
		case k < 35:
			r.do = "accept"
		case k > 85:
			r = rule{src: "10.1.0.0/24", dst: r.dst, do: "netmap " + g.one("172.31.1.0/24", "10.1.9.0/24")}
			if hook == "pre" {
				r = rule{dst: "10.2.0.0/24", do: "netmap " + g.one("10.3.0.0/24", "10.2.7.0/24")}
			}
		case hook == "pre":
			if r.proto == "tcp" || r.proto == "udp" {
				r.do = "dnat " + g.one("10.2.0.5", "10.3.0.7", "10.2.0.9:80", "203.0.113.5")
			} else {
				r.do = "dnat " + g.one("10.2.0.5", "10.3.0.7", "203.0.113.5")
			}
		case k < 65:
			r.do = "masquerade"
		default:
			r.do = "snat " + g.one("198.51.100.1", "198.51.100.9", "10.1.0.77", "192.0.2.77")
		}
		out = append(out, r)
	}
	return out
}

func random(seed uint64, n int) (generator, scene) {
	g := generator{rand.New(rand.NewPCG(seed, uint64(n)))}
	s := scene{iptables: g.chance(50), chains: map[string][]rule{}, policies: map[string]string{}}
	s.chains["pre-filter"] = g.filter("pre", 1)
	s.chains["pre-nat"] = g.nat("pre")
	s.chains["forward"] = g.filter("forward", 6)
	s.chains["forward2"] = g.filter("forward", 2)
	s.chains["input"] = g.filter("input", 3)
	s.chains["post-filter"] = g.filter("post", 1)
	s.chains["post-nat"] = g.nat("post")
	s.chains["a"] = g.filter("forward", 3)
	s.chains["b"] = g.filter("forward", 2)
	for i, r := range s.chains["a"] { // no circles
		if r.do == "jump a" {
			s.chains["a"][i].do = "jump b"
		}
	}
	for i, r := range s.chains["b"] {
		if strings.HasPrefix(r.do, "jump") {
			s.chains["b"][i].do = "return"
		}
	}
	for _, c := range []string{"forward", "input", "pre-filter", "forward2", "post-filter"} {
		s.policies[c] = "accept"
	}
	if g.chance(35) {
		s.policies["forward"] = "drop"
	}
	if g.chance(20) {
		s.policies["input"] = "drop"
	}
	for range g.IntN(3) {
		s.routes = append(
			s.routes,
			g.one(
				"route add 10.3.0.0/16 via 192.0.2.254",
				"route add 10.2.0.0/24 via 192.0.2.254",
				"route add blackhole 10.2.0.0/16",
				"route add unreachable 10.3.0.0/24",
				"route add prohibit 203.0.113.0/24",
				"route add 10.2.0.5/32 via 198.51.100.254",
				"route add 10.2.0.0/16 via 192.0.2.254 table 7\nrule add from 10.1.9.0/24 lookup 7 priority 100",
				"rule add to 10.3.0.0/16 blackhole priority 90",
				"route add throw 10.2.0.0/25 table 8\nroute add default via 192.0.2.254 table 8\nrule add iif lan0 lookup 8 priority 110",
			),
		)
	}
	for i := range g.IntN(4) {
		mode := g.one("tunnel", "tunnel", "tunnel", "pass", "drop")
		s.children += fmt.Sprintf(
			"      c%d {\n        mode = %s\n        local_ts = %s\n        remote_ts = %s\n        start_action = trap\n      }\n",
			i,
			mode,
			g.one("10.1.0.0/24", "10.1.0.0/16", "10.1.9.0/24", "10.1.0.77", "0.0.0.0/0"),
			g.one("10.2.0.0/24", "10.2.0.0/16", "10.2.0.5", "10.3.0.0/16[udp]", "10.2.0.0/16[tcp/80]", "10.3.0.0/16"),
		)
	}
	return g, s
}

// swanctl writes the scene's policies as a daemon's configuration.
func (s scene) swanctl() string {
	return "connections {\n  far {\n    local_addrs = 198.51.100.1\n    remote_addrs = 203.0.113.99\n    children {\n" + s.children +
		"    }\n  }\n}\n"
}

// packets makes the packets of a scene: none shares a connection with another.
func (g generator) packets(n int) []packet.Packet {
	var out []packet.Packet
	for i := range n {
		p := packet.Packet{
			Family: packet.IPv4,
			Src:    netip.MustParseAddr(fmt.Sprintf("10.1.%s.%d", g.one("0", "0", "9"), 10+g.IntN(6))),
			In:     "lan0",
			State:  packet.New,
		}
		p.Dst = netip.MustParseAddr(
			g.one(
				"10.2.0.5",
				"10.2.0.9",
				"10.2.7.1",
				"10.3.0.7",
				"10.3.9.9",
				"203.0.113.5",
				"198.51.100.254",
				"10.1.0.1",
				"198.51.100.1",
				"192.0.2.254",
			),
		)
		switch g.IntN(3) {
		case 0:
			p.Proto, p.ICMP = 1, 8<<8
		case 1:
			p.Proto, p.Dport = 6, []uint16{22, 80, 443, 8080}[g.IntN(4)]
		default:
			p.Proto, p.Dport = 17, []uint16{53, 80, 5000}[g.IntN(3)]
		}
		if p.Proto != 1 {
			p.Sport = uint16(20000 + i)
		}
		out = append(out, p)
	}
	return out
}

// nft writes the scene's rules as nftables text.
func (s scene) nft() string {
	var b strings.Builder
	base := func(name, kind, hook string, priority int) {
		fmt.Fprintf(
			&b,
			"\tchain %s {\n\t\ttype %s hook %s priority %d; policy %s;\n",
			name,
			kind,
			hook,
			priority,
			orAccept(s.policies[name]),
		)
		for _, r := range s.chains[name] {
			b.WriteString("\t\t" + r.nft() + "\n")
		}
		b.WriteString("\t}\n")
	}
	plain := func(name string) {
		fmt.Fprintf(&b, "\tchain %s {\n", name)
		for _, r := range s.chains[name] {
			b.WriteString("\t\t" + r.nft() + "\n")
		}
		b.WriteString("\t}\n")
	}
	b.WriteString("table ip filter {\n")
	plain("b")
	plain("a")
	base("pre-filter", "filter", "prerouting", -150)
	base("forward", "filter", "forward", 0)
	base("forward2", "filter", "forward", 10)
	base("input", "filter", "input", 0)
	base("post-filter", "filter", "postrouting", 150)
	b.WriteString("}\ntable ip nat {\n")
	base("pre-nat", "nat", "prerouting", -100)
	base("post-nat", "nat", "postrouting", 100)
	b.WriteString("}\n")
	return strings.NewReplacer("pre-", "pre_", "post-", "post_").Replace(b.String())
}

func orAccept(s string) string {
	if s == "" {
		return "accept"
	}
	return s
}

func eq(s string) (op, value string) {
	if v, ok := strings.CutPrefix(s, "!"); ok {
		return "!= ", v
	}
	return "", s
}

func (r rule) nft() string {
	var w []string
	add := func(what, s string) {
		if s == "" {
			return
		}
		op, v := eq(s)
		if strings.Contains(v, ",") && what != "ct state" {
			v = "{ " + v + " }"
		}
		w = append(w, what+" "+op+v)
	}
	add("ip saddr", r.src)
	add("ip daddr", r.dst)
	switch {
	case r.dport != "":
		add(r.proto+" dport", r.dport)
	case r.proto != "":
		add("meta l4proto", r.proto)
	}
	add("iifname", r.in)
	add("oifname", r.out)
	add("ct state", r.state)
	marked := func(what, mark string) {
		op, v := eq(mark)
		if value, mask, masked := strings.Cut(v, "/"); masked {
			if op == "" {
				op = "== "
			}
			w = append(w, what+" & "+mask+" "+op+value)
			return
		}
		add(what, mark)
	}
	marked("meta mark", r.mark)
	marked("ct mark", r.ctmark)
	switch r.policy {
	case "out":
		w = append(w, "rt ipsec exists")
	case "!out":
		w = append(w, "rt ipsec missing")
	}
	verb, arg, _ := strings.Cut(r.do, " ")
	switch verb {
	case "mark":
		w = append(w, "meta mark set "+arg)
	case "ctmark":
		w = append(w, "ct mark set "+arg)
	case "save":
		w = append(w, "ct mark set mark")
	case "restore":
		w = append(w, "meta mark set ct mark")
	case "netmap":
		of, way, from := "saddr", "snat", r.src
		if r.src == "" {
			of, way, from = "daddr", "dnat", r.dst
		}
		w = append(w, fmt.Sprintf("%s ip prefix to ip %s map { %s : %s }", way, of, from, arg))
	case "snat", "dnat":
		w = append(w, verb+" to "+arg)
	default:
		w = append(w, r.do)
	}
	return strings.Join(w, " ")
}

// save writes the scene's rules as iptables-save does.
func (s scene) save() string {
	var b strings.Builder
	table := func(name string, chains ...string) {
		fmt.Fprintf(&b, "*%s\n", name)
		var rules strings.Builder
		for _, c := range chains {
			place, as, _ := strings.Cut(c, "=")
			policy := "ACCEPT"
			if s.policies[place] == "drop" {
				policy = "DROP"
			}
			if place == as {
				policy = "-"
			}
			fmt.Fprintf(&b, ":%s %s [0:0]\n", as, policy)
			for _, r := range s.chains[place] {
				fmt.Fprintf(&rules, "-A %s %s\n", as, r.save())
			}
		}
		b.WriteString(rules.String() + "COMMIT\n")
	}
	table("mangle", "pre-filter=PREROUTING", "post-filter=POSTROUTING")
	table("nat", "pre-nat=PREROUTING", "post-nat=POSTROUTING")
	table("filter", "input=INPUT", "forward=FORWARD", "b=b", "a=a")
	return b.String()
}

func (r rule) save() string {
	var w []string
	add := func(option, s string) {
		if s == "" {
			return
		}
		op, v := eq(s)
		if op != "" {
			w = append(w, "!")
		}
		w = append(w, option, v)
	}
	add("-s", r.src)
	add("-d", r.dst)
	add("-p", r.proto)
	if r.dport != "" {
		op, v := eq(r.dport)
		w = append(w, "-m", "multiport")
		if op != "" {
			w = append(w, "!")
		}
		w = append(w, "--dports", strings.ReplaceAll(v, "-", ":"))
	}
	add("-i", r.in)
	add("-o", r.out)
	if r.state != "" {
		w = append(w, "-m", "conntrack", "--ctstate", strings.ToUpper(r.state))
	}
	if r.mark != "" {
		w = append(w, "-m", "mark")
		add("--mark", r.mark)
	}
	if r.ctmark != "" {
		w = append(w, "-m", "connmark")
		add("--mark", r.ctmark)
	}
	switch r.policy {
	case "out":
		w = append(w, "-m", "policy", "--dir", "out", "--pol", "ipsec")
	case "!out":
		w = append(w, "-m", "policy", "--dir", "out", "--pol", "none")
	}
	verb, arg, _ := strings.Cut(r.do, " ")
	switch verb {
	case "mark":
		w = append(w, "-j", "MARK", "--set-mark", arg)
	case "ctmark":
		w = append(w, "-j", "CONNMARK", "--set-mark", arg)
	case "save", "restore":
		w = append(w, "-j", "CONNMARK", "--"+verb+"-mark")
	case "netmap":
		w = append(w, "-j", "NETMAP", "--to", arg)
	case "snat":
		w = append(w, "-j", "SNAT", "--to-source", arg)
	case "dnat":
		w = append(w, "-j", "DNAT", "--to-destination", arg)
	case "jump":
		w = append(w, "-j", arg)
	default:
		w = append(w, "-j", strings.ToUpper(verb))
	}
	return strings.Join(w, " ")
}
