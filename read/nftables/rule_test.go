package nftables_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/nftables"
	"toril/read/readtest"
)

// meanings are rules, and what they mean.
func meanings() map[string]string {
	return map[string]string{
		`accept`:                      "all packets -> accept",
		`ip saddr 10.0.0.0/8 drop`:    "10.0.0.0/8 > any -> drop",
		`ip saddr != 10.0.0.0/8 drop`: "0.0.0.0/5, 8.0.0.0/7, 11.0.0.0-255.255.255.255 > any -> drop",
		`ip daddr { 10.1.0.1, 10.1.0.8-10.1.0.11, 10.2.0.0/16 } accept`: "any > 10.1.0.1, 10.1.0.8/30, 10.2.0.0/16 -> accept",
		`ip6 saddr fd00::/8 accept`:                                     "fd00::/8 > any -> accept",
		`ip6 saddr fd00::1-fd00::9 tcp dport 22 accept`:                 "fd00::1-fd00::9 > any tcp port 22 -> accept",
		`tcp dport { 22, 80-90, https } accept`: "any IPv4 tcp port 22, 80-90, 443; any IPv6 tcp " +
			"port 22, 80-90, 443 -> accept",
		`tcp dport != 22 reject with tcp reset`: "any IPv4 tcp port not 22; any IPv6 tcp port not " +
			"22 -> reject",
		`udp sport 53 udp dport > 1023 accept`: "any IPv4 udp from port 53 port 1024-65535; any " +
			"IPv6 udp from port 53 port 1024-65535 -> accept",
		`tcp dport <= 1023 drop`: "any IPv4 tcp port 0-1023; any IPv6 tcp port " +
			"0-1023 -> drop",
		`meta l4proto { tcp, udp } th dport 53 accept`: "any IPv4 tcp, udp port 53; any IPv6 tcp, udp port " +
			"53 -> accept",
		`tcp flags syn / syn,rst drop`:         "any IPv4 tcp; any IPv6 tcp if tcp flags -> drop",
		`tcp flags & (syn|rst) == syn drop`:    "any IPv4 tcp; any IPv6 tcp if tcp flags -> drop",
		`ip protocol esp accept`:               "any IPv4 esp -> accept",
		`ip6 nexthdr 50 accept`:                "any IPv6 esp -> accept",
		`icmp type { echo-request, 3 } accept`: "any IPv4 icmp type 3, 8 -> accept",
		`iifname "eth0" oifname { "wan*", ppp0 } drop`: "any IPv4 in on eth0 out via ppp0, wan*; any IPv6 " +
			"in on eth0 out via ppp0, wan* -> drop",
		`iif != lo ct state established,related accept`: "any IPv4 in on any but lo established, related; " +
			"any IPv6 in on any but lo established, related -> accept",
		`ct state { new, untracked } log prefix "x " accept`: "any IPv4 new, untracked; any IPv6 new, untracked " +
			"-> accept log",
		`ct state invalid drop comment "no; really"`: "any IPv4 invalid; any IPv6 invalid -> drop",
		`ct status dnat accept`: "any IPv4 translated destination, both; any IPv6 " +
			"translated destination, both -> accept",
		`ct direction reply accept`: "any IPv4 replies; any IPv6 replies -> accept",
		`meta ipsec exists accept`:  "any IPv4 decrypted; any IPv6 decrypted -> accept",
		`rt ipsec missing drop`: "any IPv4 in the clear; any IPv6 in the clear -> " +
			"drop",
		`ipsec out ip daddr 203.0.113.9 accept`: "any IPv4 to be encrypted for 203.0.113.9; any " +
			"IPv6 to be encrypted for 203.0.113.9 -> accept",
		`ipsec in reqid 1 accept`: "any IPv4 decrypted; any IPv6 decrypted if the " +
			"reqid of the SA -> accept",
		`meta mark 0x10 accept`: "any IPv4 mark 0x10; any IPv6 mark 0x10 -> accept",
		`meta mark & 0xffff0000 == 0x00010000 accept`: "any IPv4 mark 0x10000-0x1ffff; any IPv6 mark " +
			"0x10000-0x1ffff -> accept",
		`meta hour "22:00"-"06:00" accept`: "all packets if meta hour -> accept",
		`ct count over 10 drop`:            "all packets if a number of connections -> drop",
		`ct mark and 0x0f != 0 accept`:     "all packets if single bits of the mark -> accept",
		`meta mark ne 0x3 drop`: "any IPv4 mark not 0x3; any IPv6 mark not 0x3 -> " +
			"drop",
		`ct status confirmed,assured accept`: "all packets if a status of the connection -> " +
			"accept",
		`ct state & (established|related) != 0 accept`: "any IPv4 established, related; any IPv6 " +
			"established, related -> accept",
		`rt type 0 drop`:             "all packets if rt type -> drop",
		`ip option lsrr exists drop`: "any IPv4 if an option of ip -> drop",
		`tcp option maxseg exists accept`: "any IPv4 tcp; any IPv6 tcp if an option of tcp -> " +
			"accept",
		`socket transparent 1 accept`: "all packets if socket transparent -> accept",
		`ip6 saddr != fd00::1-fd00::ff drop`: "::-fd00::, " +
			"fd00::100-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff > any -> drop",
		`ct label set 5 tcp dport 22 accept`: "any IPv4 tcp port 22; any IPv6 tcp port 22 -> " +
			"accept",
		`ct mark set meta mark & 0xff tcp dport 24 accept`: "any IPv4 tcp port 24; any IPv6 tcp port 24 -> " +
			"accept connection mark 0x0/0xffffffff any=true",
		`meta ipsec exists ct mark set 0x20`: "any IPv4 decrypted; any IPv6 decrypted -> continue connection mark 0x20",
		`ct mark set mark`:                   "all packets -> continue connection mark 0x0 copied",
		`meta mark set ct mark accept`:       "all packets -> accept mark 0x0 copied",
		`ct mark 0x20-0x2f accept`:           "any IPv4 connection mark 0x20-0x2f; any IPv6 connection mark 0x20-0x2f -> accept",
		`ct mark and 0xff == 0x20 drop`:      "all packets if single bits of the mark -> drop",
		`meta mark set numgen inc mod 2 map { 0 : 0x1, 1 : 0x2 } tcp dport 27 accept`: "any IPv4 tcp port 27; any IPv6 tcp port 27 -> " +
			"accept mark 0x0/0xffffffff any=true",
		`tcp dport 80 dnat ip to ip saddr map { 10.0.0.1 : 192.0.2.5 }:tcp dport map { 80 : 8080 }`: "10.0.0.1 > any tcp port 80 -> destination NAT " +
			"192.0.2.5:8080",
		`dnat ip to ct mark map { 0x1 : 192.0.2.5 }`: "any IPv4 connection mark 0x1; any IPv6 connection mark 0x1 -> destination NAT " +
			"192.0.2.5",
		`tcp dport 92 redirect to :tcp dport map { 92 : 9292 }`: "any IPv4 tcp port 92; any IPv6 tcp port 92 -> " +
			"redirect an address of the interface",
		`meta mark set 0x7`: "all packets -> continue mark 0x7",
		`tcp flags & (fin|syn|rst|ack) == syn tcp option maxseg size set rt mtu`: "any IPv4 tcp; any IPv6 tcp if tcp flags -> continue",
		`tcp flags syn accept`:                        "any IPv4 tcp; any IPv6 tcp if tcp flags -> accept",
		`limit rate 5/second burst 10 packets accept`: "all packets if a limit -> accept",
		`fib daddr type local accept`:                 "all packets if a look into the routing table (fib) -> accept",
		`ip saddr . tcp dport { 10.0.0.1 . 80, 10.0.0.2 . 443-444 } accept`: "10.0.0.1 > any tcp port 80; 10.0.0.2 > any tcp port " +
			"443, 444 -> accept",
		`ip saddr @hosts counter packets 5 bytes 400 accept`: "10.9.0.1, 10.9.0.4/30 > any -> accept",
		`ip saddr @blocked drop`: "any IPv4 if set @blocked is filled while the gateway " +
			"runs -> drop",
		`ip saddr $lan accept`:                  "10.7.0.0/24 > any -> accept",
		`ip saddr { $lan, 10.8.0.0/24 } accept`: "10.7.0.0/24, 10.8.0.0/24 > any -> accept",
		`jump other`:                            "all packets -> jump inet t other",
		`goto other`:                            "all packets -> goto inet t other",
		`oifname wan masquerade`: "any IPv4 out via wan; any IPv6 out via wan -> " +
			"masquerade an address of the interface",
		`ip saddr 10.0.0.0/8 tcp dport 0-65535 snat ip to 192.0.2.1-192.0.2.4:1024-65535`: "10.0.0.0/8 > any tcp -> source NAT " +
			"192.0.2.1-192.0.2.4:1024-65535",
		`tcp dport 80 dnat ip to 10.0.0.5:8080`: "any IPv4 tcp port 80; any IPv6 tcp port 80 -> " +
			"destination NAT 10.0.0.5:8080",
		`udp dport 53 dnat ip6 to [fd00::5]:8080`: "any IPv4 udp port 53; any IPv6 udp port 53 -> " +
			"destination NAT [fd00::5]:8080",
		`tcp dport 80 redirect to :3128`: "any IPv4 tcp port 80; any IPv6 tcp port 80 -> " +
			"redirect an address of the interface",
		`dnat ip to tcp dport map { 80 : 10.0.0.5, 443 : 10.0.0.6 }`: "any IPv4 tcp port 80; any IPv6 tcp port 80 -> " +
			"destination NAT 10.0.0.5 | any IPv4 tcp port 443; any IPv6 tcp port 443 -> destination NAT 10.0.0.6",
		`ct state vmap { established : accept, invalid : drop, new : jump other }`: "any IPv4 established; any IPv6 established -> " +
			"accept | any IPv4 invalid; any IPv6 invalid -> drop | any IPv4 new; any IPv6 new -> jump inet t other",
		`tcp dport vmap @ports`: "any IPv4 tcp port 22; any IPv6 tcp port 22 -> " +
			"accept | any IPv4 tcp port 23; any IPv6 tcp port 23 -> drop",
		`notrack`:                   "all packets -> notrack",
		`queue num 0 bypass`:        "all packets -> queue",
		`warble 7 accept`:           `all packets if "warble" is not a condition or statement that is known -> accept`,
		`ip saddr 300.1.1.1 accept`: `all packets if "300.1.1.1" is not an IPv4 address, network or range -> accept`,
	}
}

// among reads rules of a chain, a line each, the first of which is line 9, in a table with sets and another chain.
func among(rules ...string) *model.Gateway {
	return readtest.Read(
		nftables.Text,
		"n.conf",
		"define lan = { 10.7.0.0/24 }\ntable inet t {\n"+
			" set hosts { type ipv4_addr; flags interval; elements = { 10.9.0.1, 10.9.0.4/30 } }\n"+
			" set blocked { type ipv4_addr; flags dynamic; }\n"+
			" map ports { type inet_service : verdict; elements = { 22 : accept, 23 : drop } }\n chain other {\n }\n"+
			" chain c {\n"+strings.Join(rules, "\n")+"\n }\n}\n",
		nil,
	)
}

// TestARuleAmongOthers reads all rules in one chain: none takes anything from those beside it.
func TestARuleAmongOthers(t *testing.T) {
	of := meanings()
	rules := slices.Sorted(maps.Keys(of))
	got := make([][]string, len(rules))
	for _, r := range among(rules...).Chains[1].Rules {
		got[r.At.Line-9] = append(got[r.At.Line-9], readtest.Rule(r))
	}
	for i, rule := range rules {
		assert.Equal(t, of[rule], strings.Join(got[i], " | "), rule)
	}
}

func TestRules(t *testing.T) {
	for rule, want := range meanings() {
		g := among(rule)
		require.Empty(t, readtest.Problems(g), rule)
		require.Len(t, g.Chains, 2, rule)
		var got []string
		for _, r := range g.Chains[1].Rules {
			got = append(got, readtest.Rule(r))
			assert.Equal(t, 9, r.At.Line)
		}
		assert.Equal(t, want, strings.Join(got, " | "), rule)
		assert.Equal(
			t,
			strings.Contains(rule, "warble") || strings.Contains(rule, "300."),
			len(readtest.Unread(g)) > 0,
			"%s: %v",
			rule,
			readtest.Unread(g),
		)
	}
}

func TestChainsAndCommands(t *testing.T) {
	g := readtest.Read(nftables.Text, "n.conf", `#!/usr/sbin/nft -f
flush ruleset
add table ip nat
add chain ip nat post { type nat hook postrouting priority srcnat + 5; policy accept; }
add rule ip nat post oifname "wan" \
    masquerade
insert rule ip nat post ip daddr 10.2.0.0/24 accept
include "more/*.nft"
table inet late { chain a { type filter hook forward priority -10
policy drop
accept; drop; }
chain unused { }
chain used { jump nowhere; return; }
chain in { type filter hook input priority mangle; jump used; ip saddr @gone accept; }; }
`, map[string]string{"more/a.nft": "table inet extra { chain x { type filter hook output priority 0; }; }\n",
		"more/b.nft": "rename chain ip a b c\n"})
	assert.Empty(t, readtest.Problems(g))
	var chains []string
	for _, c := range g.Chains {
		chains = append(chains, fmt.Sprintf("%s %s %d %s %d", c.ID(), c.Hook, c.Priority, c.Policy.Value, len(c.Rules)))
	}
	assert.Equal(
		t,
		[]string{
			"ip nat post postrouting 105 accept 2",
			"inet extra x output 0 accept 0",
			"inet late a forward -10 drop 2",
			"inet late unused none 0 accept 0",
			"inet late used none 0 accept 2",
			"inet late in input -150 accept 2",
		},
		chains,
	)
	assert.Equal(t, model.Accept, g.Chains[0].Rules[0].Verb, "inserted before")
	assert.Equal(t, 5, g.Chains[0].Rules[1].At.Line)
	assert.Equal(t, []string{`n.conf:14: set @gone is not defined`, `more/b.nft:1: rename is not read`}, readtest.Unread(g))
	var defs []string
	for _, d := range g.Definitions {
		defs = append(defs, fmt.Sprintf("%s %s used %d missing %v", d.Kind, d.Name, len(d.Used), d.Missing))
	}
	assert.Equal(
		t,
		[]string{
			"set inet late gone used 1 missing true",
			"chain inet late unused used 0 missing false",
			"chain inet late used used 1 missing false",
			"chain inet late nowhere used 1 missing true",
		},
		defs,
	)
}

func TestBrokenTextLosesNothingElse(t *testing.T) {
	for text, want := range map[string]string{
		"table inet t {\n chain c {\n  accept\n": "n.conf:3: chain c, opened at line 2, is not closed: the " +
			"file ends here",
		"}\ntable inet t { chain c { accept; } }\n": "n.conf:1: a closing brace has no opening one",
		"table inet t {\n set s {\n type ipv4_addr; elements = { 1.1.1.1": "n.conf:3: a brace or parenthesis that opens here is not " +
			"closed: the file ends before",
	} {
		g := readtest.Read(nftables.Text, "n.conf", text, nil)
		assert.Contains(t, readtest.Problems(g), want)
	}
	g := readtest.Read(nftables.Text, "n.conf", "table inet t {\n chain c {\n accept\n "+strings.Repeat("{", 100_000)+"\n", nil)
	require.NotEmpty(t, g.Chains)
	assert.Equal(t, model.Accept, g.Chains[0].Rules[0].Verb)
	g = readtest.Read(
		nftables.Text,
		"n.conf",
		"table inet t {\n chain c {\n ip saddr { "+strings.Repeat("10.0.0.1, ", 500_000)+" } accept\n }\n}\n",
		nil,
	)
	assert.Empty(t, readtest.Problems(g))
	assert.Equal(t, "10.0.0.1 > any -> accept", readtest.Rule(g.Chains[0].Rules[0]))
}

func FuzzText(f *testing.F) {
	f.Add(
		"table inet t { chain c { type filter hook input priority 0; ip saddr 10.0.0.0/8 tcp dport { 22, 80 } ct state new log accept; } }",
	)
	f.Add(
		"define a = { 1.1.1.1 }\ntable ip n { map m { type ipv4_addr : verdict; elements = { 1.1.1.1 : jump x } } chain c { ip saddr " +
			"vmap @m; dnat to tcp dport map { 1 : 2.2.2.2 } } }",
	)
	f.Add("add rule ip a b meta mark & 0xff == 0x1 snat to [::1]:80-90; insert rule ip a b jump { accept; drop; }")
	f.Fuzz(func(t *testing.T, text string) {
		g := readtest.Read(nftables.Text, "n.conf", text, nil)
		for _, c := range g.Chains {
			for _, r := range c.Rules {
				_ = readtest.Rule(r)
			}
		}
	})
}

func TestChainsWithoutNameAndMapsWithARest(t *testing.T) {
	const text = "table inet t {\n set f { type ipv4_addr; elements = { 10.0.0.1 }; }\n chain c {\n" +
		"  type filter hook forward priority 0;\n" +
		"  jump {\n   tcp dport 22 accept; udp dport 53 drop\n   ip protocol gre drop\n  }\n" +
		"  tcp dport vmap { * : drop, 22 : accept }\n  add @f { ip saddr }\n  ip saddr @f accept\n }\n}\n"
	want := "chain inet t c: hook forward, priority 0, kind 0, policy accept\n" +
		"  all packets -> jump inet t (unnamed 1)\n" +
		"  any IPv4 tcp port 22; any IPv6 tcp port 22 -> accept\n" +
		"  any IPv4 tcp port not 22; any IPv6 tcp port not 22 -> drop\n" +
		"  all packets if a set that the rule itself fills -> continue\n" +
		"  any IPv4 if set @f is filled while the gateway runs -> accept\n" +
		"chain inet t (unnamed 1): hook none, priority 0, kind 0, policy accept\n" +
		"  any IPv4 tcp port 22; any IPv6 tcp port 22 -> accept\n" +
		"  any IPv4 udp port 53; any IPv6 udp port 53 -> drop\n" +
		"  any IPv4 gre -> drop\n"
	g := readtest.Read(nftables.Text, "n.conf", text, nil)
	assert.Equal(t, want, readtest.Rules(g))
	assert.Empty(t, readtest.Unread(g))
	for _, inline := range []string{`"jump {\n tcp dport 22 accept\n}"`, `"jump { } drop"`,
		`"jump {"`} { // as the program writes it, and what is none
		g = readtest.Read(
			nftables.JSON,
			"n.json",
			`{"nftables": [{"chain":{"family":"inet","table":"t","name":"c","hook":"forward","type":"filter","prio":0,"policy":"drop"}},{"rule":{"family":"inet","table":"t","chain":"c","expr":[`+inline+`]}}]}`,
			nil,
		)
		assert.Equal(t, strings.HasSuffix(inline, `\n}"`), len(readtest.Unread(g)) == 0, inline)
	}
}

// TestTheCommonestFormIsNoOther reads rules of the form that is read at once, each also with a comment behind it, which is read as any
// rule is.
func TestTheCommonestFormIsNoOther(t *testing.T) {
	conditions := []string{
		"ip saddr 10.1.0.0/16", "ip daddr 192.0.2.1", "ip saddr 10.0.0.0/8", "ip6 daddr fd00::/16", "tcp dport 443", "tcp sport ssh",
		"udp dport 500-510", `iifname "wan*"`, "oifname lan", `iifname ""`, "ip daddr @missing", "tcp dport { 22, 80 }",
		"ip saddr != 10.1.0.1",
		"ip daddr 10.0.0.300", "tcp dport 22, 23", "udp dport set 5", "ip saddr $other", "ct state new", "ip saddr 10.9.0.0 - 10.9.0.7",
	}
	statements := []string{"log", `log prefix "a b"`, "counter", "counter packets 5 bytes 6", "log level debug", "counter log"}
	verdicts := []string{"accept", "drop", "return", "reject", "continue", "jump next", `"accept"`, "log", "tcp dport"}
	r := rand.New(rand.NewPCG(12, 1))
	for _, family := range []string{"ip", "ip6", "inet", "bridge"} {
		var text strings.Builder
		fmt.Fprintf(&text, "table %s f {\nchain next {\n}\nchain c {\n", family)
		const n = 400
		for range n {
			var rule []string
			for range r.IntN(4) {
				rule = append(rule, conditions[r.IntN(len(conditions))])
			}
			if r.IntN(3) == 0 {
				rule = append(rule, statements[r.IntN(len(statements))])
			}
			rule = append(rule, verdicts[r.IntN(len(verdicts))])
			one := strings.Join(rule, " ")
			fmt.Fprintf(&text, "%s\n%s comment \"x\"\n", one, one)
		}
		text.WriteString("}\n}\n")
		g := readtest.Read(nftables.Text, "nftables.conf", text.String(), nil)
		rules := g.Chains[1].Rules
		lines := strings.Split(text.String(), "\n")
		require.Len(t, rules, 2*n)
		for i := 0; i < len(rules); i += 2 {
			line := lines[rules[i].At.Line-1]
			if strings.HasSuffix(line, "log") || strings.HasSuffix(line, "tcp dport") { // behind these a comment is something else
				continue
			}
			assert.Equal(t, readtest.Rule(rules[i+1]), readtest.Rule(rules[i]), line)
			assert.Equal(t, rules[i+1].Counter, rules[i].Counter, line)
			assert.Equal(t, rules[i+1].Doubts.Unread(), rules[i].Doubts.Unread(), line)
		}
	}
}
