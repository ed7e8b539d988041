// Package cases holds what Linux 6.1 with real ESP did to the packets of one gateway. Unit tests ask Toril about them, and
// the laboratory tries them again in a kernel.
package cases

import "strings"

// Network is what ip(8) prints on the gateway: lan 10.1.0.0/24 behind lan0, the outside behind wan0.
const Network = `1: lo: <LOOPBACK,UP> mtu 65536
    inet 127.0.0.1/8 scope host lo
2: lan0: <UP> mtu 1500
    inet 10.1.0.1/24 scope global lan0
3: wan0: <UP> mtu 1500
    inet 198.51.100.1/24 scope global wan0
default via 198.51.100.254 dev wan0
10.1.0.0/24 dev lan0 proto kernel scope link src 10.1.0.1
198.51.100.0/24 dev wan0 proto kernel scope link src 198.51.100.1
`

// Daemon is the gateway's swanctl.conf: a tunnel from 10.1.0.0/24 to 10.2.0.0/24 whose peer is 203.0.113.9. START stands for
// more statements of the child.
const Daemon = `connections {
  far {
    local_addrs = 198.51.100.1
    remote_addrs = 203.0.113.9
    children {
      net {
        local_ts = 10.1.0.0/24
        remote_ts = 10.2.0.0/24
        START
      }
    }
  }
}
`

// NoConnection as a Start means that the gateway has no tunnel.
const NoConnection = "none at all"

// Case is a packet from the network behind the gateway, and what became of it.
type Case struct {
	Name     string
	Start    string // more statements of the child
	Rules    string // nftables
	Routes   string // more routes, as ip route prints them
	Down     bool   // no SA stands
	From, To string // of an echo request; "" for 10.1.0.10 and 10.2.0.5
	Want     string // "ESP from" the inner source and the outer's; "CLEAR from" the source; or where it was dropped
}

// Policies are the lines for ip -batch that do in a kernel what the IKE daemon does for the case: its SA, its policies and
// its routes.
func (c Case) Policies() []string {
	const (
		between = "src 198.51.100.1 dst 203.0.113.9 proto esp"
		domain  = "xfrm policy add src 10.1.0.0/24 dst 10.2.0.0/24 dir out"
	)
	policy := domain + " priority 200 tmpl " + between + " mode tunnel"
	lines := []string{
		"rule add priority 220 table 220",
		"route add 10.2.0.0/24 via 198.51.100.254 dev wan0 table 220",
		"xfrm state add " + between + " spi 0x1 mode tunnel " + Keys,
		policy,
	}
	switch {
	case c.Start == NoConnection, c.Down && !strings.Contains(c.Start, "trap"):
		return nil
	case strings.Contains(c.Start, "mode = drop"):
		return []string{domain + " action block"}
	case c.Down:
		return append(lines[:2:2], policy)
	}
	if _, to, ok := strings.Cut(c.Start, "start_action = trap\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = "); ok {
		lines = append(
			lines,
			"xfrm policy add src 10.1.0.0/24 dst "+to+" dir out priority 100 action allow",
			"route add throw "+to+" table 220",
		)
	}
	return lines
}

// Keys are the algorithms and keys of the SAs, for ip(8).
const Keys = "enc cbc(aes) 0x000102030405060708090a0b0c0d0e0f auth-trunc hmac(sha256) " +
	"0x000102030405060708090a0b0c0d0e0f101112131415161718191a1b1c1d1e1f 128"

// Nat writes a chain of source translation with rules that are parted by "; ".
func Nat(rules string) string {
	return "table ip nat {\n\tchain post {\n\t\ttype nat hook postrouting priority 100;\n\t\t" + strings.ReplaceAll(
		rules,
		"; ",
		"\n\t\t",
	) + "\n\t}\n}\n"
}

// Forward writes a chain of the forward hook, likewise.
func Forward(rules string) string {
	return "table inet filter {\n\tchain forward {\n\t\ttype filter hook forward priority 0;\n\t\t" + strings.ReplaceAll(
		rules,
		"; ",
		"\n\t\t",
	) + "\n\t}\n}\n"
}

// marked gives connections a mark as they come in, and has rules of the forward hook drop what they do not accept.
func marked(mark, rules string) string {
	return "table inet marks {\n\tchain come {\n\t\ttype filter hook prerouting priority -150;\n\t\tct mark set " + mark + "\n\t}\n}\n" +
		strings.Replace(Forward(rules), "priority 0;", "priority 0; policy drop;", 1)
}

const esp = "ESP from 10.1.0.10, outer from 198.51.100.1"

// All are the cases.
var All = []Case{
	{Name: "no NAT", Want: esp},
	{Name: "masquerade, no exemption", Rules: Nat(`oifname "wan0" masquerade`), Want: "CLEAR from 198.51.100.1"},
	{Name: "exempt before masquerade", Rules: Nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`), Want: esp},
	{
		Name:  "exempt after masquerade",
		Rules: Nat(`oifname "wan0" masquerade; ip daddr 10.2.0.0/24 accept`),
		Want:  "CLEAR from 198.51.100.1",
	},
	{
		Name: "exempt in another chain",
		Rules: "table ip early {\n\tchain post {\n\t\ttype nat hook postrouting priority 90;\n\t\tip daddr 10.2.0.0/24 accept\n\t}\n" +
			"}\n" + Nat(
			`oifname "wan0" masquerade`,
		),
		Want: "CLEAR from 198.51.100.1",
	},
	{Name: "rt ipsec exists accept", Rules: Nat(`rt ipsec exists accept; oifname "wan0" masquerade`), Want: esp},
	{
		Name:  "rt ipsec missing masquerade",
		Rules: Nat(`oifname "wan0" rt ipsec missing masquerade`),
		Want:  "ESP from 10.1.0.10, outer from 198.51.100.1",
	},
	{Name: "ipsec out accept", Rules: Nat(`ipsec out ip daddr 203.0.113.9 accept; oifname "wan0" masquerade`), Want: esp},
	{Name: "SNAT inside the selector", Rules: Nat(`oifname "wan0" snat to 10.1.0.77`), Want: "ESP from 10.1.0.77, outer from 10.1.0.77"},
	{
		Name:   "SNAT into the selector",
		From:   "10.9.0.10",
		Rules:  Nat(`ip saddr 10.9.0.0/24 snat to 10.1.0.77`),
		Routes: "10.9.0.0/24 dev lan0\n",
		Want:   "ESP from 10.1.0.77, outer from 198.51.100.1",
	},
	{Name: "SNAT to another address", Rules: Nat(`ip saddr 10.1.0.0/24 snat to 10.77.0.1`), Want: "CLEAR from 10.77.0.1"},
	{
		Name: "DNAT into the selector",
		To:   "10.3.0.5",
		Rules: "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100;\n\t\tip daddr 10.3.0.5 dnat to 10.2.0.5\n" +
			"\t}\n}\n",
		Want: esp,
	},
	{
		Name: "DNAT in, with masquerade",
		To:   "10.3.0.5",
		Rules: "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100;\n\t\tip daddr 10.3.0.5 dnat to 10.2.0.5\n" +
			"\t}\n\tchain post {\n\t\ttype nat hook postrouting priority 100;\n\t\toifname \"wan0\" masquerade\n\t}\n}\n",
		Want: "CLEAR from 198.51.100.1",
	},
	{
		Name: "DNAT out of the selector",
		Rules: "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100;\n\t\tip daddr 10.2.0.5 dnat to 10.3.0.5\n" +
			"\t}\n}\n",
		Want: "CLEAR from 10.1.0.10",
	},
	{
		Name:  "exempt, then SNAT of the rest",
		Rules: Nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" snat to 198.51.100.2`),
		Want:  "ESP from 10.1.0.10, outer from 198.51.100.2",
	},
	{
		Name:  "with ESP exempt too",
		Rules: Nat(`ip daddr 10.2.0.0/24 accept; meta l4proto esp accept; oifname "wan0" snat to 198.51.100.2`),
		Want:  esp,
	},

	{Name: "forward drop", Rules: Forward("ip daddr 10.2.0.0/24 drop"), Want: "dropped in forward"},
	{Name: "forward drop of ESP does nothing", Rules: Forward("meta l4proto esp drop"), Want: esp},
	{
		Name:  "ESP dropped in output",
		Rules: "table inet filter {\n\tchain output {\n\t\ttype filter hook output priority 0;\n\t\tmeta l4proto esp drop\n\t}\n}\n",
		Want:  "ESP from 10.1.0.10, outer dropped in output",
	},
	{
		Name:  "ESP dropped in postrouting",
		Rules: "table inet filter {\n\tchain post {\n\t\ttype filter hook postrouting priority 0;\n\t\tmeta l4proto esp drop\n\t}\n}\n",
		Want:  "ESP from 10.1.0.10, outer dropped in postrouting",
	},
	{Name: "only what will be encrypted may pass", Rules: Forward(`rt ipsec missing drop`), Want: esp},

	{Name: "policy, no SA", Start: "start_action = trap", Down: true, Want: "dropped in policy"},
	{Name: "neither policy nor SA", Down: true, Want: "CLEAR from 10.1.0.10"},
	{Name: "neither, with masquerade", Down: true, Rules: Nat(`oifname "wan0" masquerade`), Want: "CLEAR from 198.51.100.1"},
	{
		Name:  "neither, with an exemption by address",
		Down:  true,
		Rules: Nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`),
		Want:  "CLEAR from 10.1.0.10",
	},
	{
		Name:  "neither, with an exemption by policy",
		Down:  true,
		Rules: Nat(`rt ipsec exists accept; oifname "wan0" masquerade`),
		Want:  "CLEAR from 198.51.100.1",
	},
	{Name: "a guard in forward", Down: true, Rules: Forward("ip daddr 10.2.0.0/24 rt ipsec missing drop"), Want: "dropped in forward"},
	{
		Name:  "the guard does not help against NAT",
		Rules: Forward("ip daddr 10.2.0.0/24 rt ipsec missing drop") + Nat(`oifname "wan0" masquerade`),
		Want:  "CLEAR from 198.51.100.1",
	},
	{
		Name: "a guard behind NAT does",
		Rules: "table inet filter {\n\tchain post {\n\t\ttype filter hook postrouting priority 150;\n" +
			"\t\tip daddr 10.2.0.0/24 rt ipsec missing drop\n\t}\n}\n" + Nat(
			`oifname "wan0" masquerade`,
		),
		Want: "dropped in postrouting",
	},
	{
		Name:   "policy for the source after NAT only, no SA",
		Start:  "start_action = trap",
		Down:   true,
		From:   "10.9.0.10",
		Rules:  Nat(`ip saddr 10.9.0.0/24 snat to 10.1.0.77`),
		Routes: "10.9.0.0/24 dev lan0\n",
		Want:   "dropped in encapsulation",
	},
	{Name: "a policy that drops", Start: "start_action = trap\nmode = drop", Want: "dropped in policy"},

	{Name: "blackhole, no policy", Start: NoConnection, Routes: "blackhole 10.2.0.0/24\n", Want: "dropped in route"},
	{Name: "blackhole, the daemon's own", Routes: "blackhole 10.2.0.0/24\n", Want: esp},
	{Name: "no policy at all", Start: NoConnection, Want: "CLEAR from 10.1.0.10"},
	{
		Name:  "a policy that lets pass",
		Start: "}\nbypass {\nstart_action = trap\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = 10.2.0.0/28",
		Want:  "CLEAR from 10.1.0.10",
	},
	{
		Name:  "which is not for this",
		Start: "}\nbypass {\nstart_action = trap\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = 10.2.0.128/28",
		Want:  esp,
	},
	{Name: "SNAT to an address outside", Rules: Nat(`oifname "wan0" snat to 198.51.100.77`), Want: "CLEAR from 198.51.100.77"},
	{
		Name:  "exempt by policy, then SNAT of the rest",
		Rules: Nat(`rt ipsec exists accept; oifname "wan0" snat to 198.51.100.2`),
		Want:  "ESP from 10.1.0.10, outer from 198.51.100.2",
	},
	{Name: "masquerade on another interface", Rules: Nat(`oifname "lan0" masquerade`), Want: esp},
	{
		Name:  "policy, no SA, masquerade",
		Start: "start_action = trap",
		Down:  true,
		Rules: Nat(`oifname "wan0" masquerade`),
		Want:  "dropped in policy",
	},
	{
		Name:  "a policy that drops, masquerade",
		Start: "start_action = trap\nmode = drop",
		Rules: Nat(`oifname "wan0" masquerade`),
		Want:  "dropped in policy",
	},
	{
		Name:  "neither, exempt, a guard in forward",
		Down:  true,
		Rules: Forward("ip daddr 10.2.0.0/24 rt ipsec missing drop") + Nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`),
		Want:  "dropped in forward",
	},
	{
		Name:  "a guard in forward, exempt, all is up",
		Rules: Forward("ip daddr 10.2.0.0/24 rt ipsec missing drop") + Nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`),
		Want:  esp,
	},
	{
		Name:   "blackhole, neither, masquerade",
		Start:  NoConnection,
		Routes: "blackhole 10.2.0.0/24\n",
		Rules:  Nat(`oifname "wan0" masquerade`),
		Want:   "dropped in route",
	},
	{Name: "unreachable, neither", Start: NoConnection, Routes: "unreachable 10.2.0.0/24\n", Want: "dropped in route"},
	{Name: "prohibit, neither", Start: NoConnection, Routes: "prohibit 10.2.0.0/24\n", Want: "dropped in route"},
	{Name: "unreachable, the daemon's own", Routes: "unreachable 10.2.0.0/24\n", Want: esp},
	{
		Name:  "let pass, exempt by policy, masquerade",
		Start: "}\nbypass {\nstart_action = trap\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = 10.2.0.0/28",
		Rules: Nat(`rt ipsec exists accept; oifname "wan0" masquerade`),
		Want:  "CLEAR from 198.51.100.1",
	},
	{
		Name: "jump before the exemption",
		Rules: "table ip nat {\n\tchain own {\n\t\tip daddr 10.2.0.0/24 accept\n\t}\n\tchain post {\n" +
			"\t\ttype nat hook postrouting priority 100;\n\t\tjump own\n\t\toifname \"wan0\" masquerade\n\t}\n}\n",
		Want: esp,
	},
	{Name: "return before the masquerade", Rules: Nat(`ip daddr 10.2.0.0/24 return; oifname "wan0" masquerade`), Want: esp},
	{Name: "reject in forward", Rules: Forward("ip daddr 10.2.0.0/24 reject"), Want: "dropped in forward"},
	{
		Name: "a mark that a rule asks for",
		Rules: "table inet filter {\n\tchain pre {\n\t\ttype filter hook prerouting priority -150;\n" +
			"\t\ticmp type echo-request meta mark set 7\n\t}\n\tchain forward {\n\t\ttype filter hook forward priority 0;\n" +
			"\t\tmeta mark 7 drop\n\t}\n}\n",
		Want: "dropped in forward",
	},
	{
		Name: "two forward chains, one drops",
		Rules: "table inet early {\n\tchain forward {\n\t\ttype filter hook forward priority -5;\n\t\taccept\n\t}\n}\n" + Forward(
			"ip daddr 10.2.0.5 drop",
		),
		Want: "dropped in forward",
	},
	{
		Name:  "a policy that lets pass and is wider than the tunnel",
		Start: "}\nbypass {\nstart_action = trap\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = 10.0.0.0/8",
		Want:  "CLEAR from 10.1.0.10",
	},
	{
		Name:  "moved onto the local network, 1:1",
		From:  "10.9.0.10",
		Rules: Nat("ip daddr 10.2.0.0/24 snat ip prefix to ip saddr map { 10.9.0.0/24 : 10.1.0.0/24 }"),
		Want:  esp,
	},
	{
		Name:  "moved onto the local network, then masquerade of the rest",
		From:  "10.9.0.10",
		Rules: Nat(`ip daddr 10.2.0.0/24 snat ip prefix to ip saddr map { 10.9.0.0/24 : 10.1.0.0/24 }; oifname "wan0" masquerade`),
		Want:  esp,
	},
	{
		Name:  "masquerade before what would move it onto the local network",
		From:  "10.9.0.10",
		Rules: Nat(`oifname "wan0" masquerade; ip daddr 10.2.0.0/24 snat ip prefix to ip saddr map { 10.9.0.0/24 : 10.1.0.0/24 }`),
		Want:  "CLEAR from 198.51.100.1",
	},
	{Name: "the mark of the connection, asked for", Rules: marked("0x5", "ct mark 0x5 accept"), Want: esp},
	{Name: "another mark of the connection", Rules: marked("0x5", "ct mark 0x6 accept"), Want: "dropped in forward"},
	{Name: "bits of the mark of the connection", Rules: marked("0x5", "ct mark & 0x4 == 0x4 accept"), Want: esp},
	{Name: "other bits of the mark of the connection", Rules: marked("0x5", "ct mark & 0x2 == 0x2 accept"), Want: "dropped in forward"},
	{Name: "the mark of the connection, taken over", Rules: marked("0x5", "meta mark set ct mark; meta mark 0x5 accept"), Want: esp},
}

// Inbound is an echo request from 10.2.0.5 to 10.1.0.10, out of the tunnel or in the clear, and what became of it.
type Inbound struct {
	Name  string
	Rules string
	Clear bool   // it comes in the clear
	Down  bool   // no SA stands
	ESP   string // what became of the ESP packet; "" where there is none
	Inner string // what became of what was in it, or of the clear packet; "" where it is never seen
}

// AllInbound are the cases of packets that come in from outside.
var AllInbound = []Inbound{
	{Name: "nothing in the way", ESP: "delivered", Inner: "CLEAR from 10.2.0.5"},
	{
		Name: "ESP closed",
		Rules: "table inet filter {\n\tchain input {\n\t\ttype filter hook input priority 0; policy drop;\n\t\tudp dport 500 accept\n" +
			"\t}\n}\n",
		ESP: "dropped in input",
	},
	{Name: "decrypted may pass", Rules: Forward("meta ipsec exists accept; drop"), ESP: "delivered", Inner: "CLEAR from 10.2.0.5"},
	{
		Name:  "from this peer",
		Rules: Forward("ipsec in ip saddr 203.0.113.9 accept; drop"),
		ESP:   "delivered",
		Inner: "CLEAR from 10.2.0.5",
	},
	{Name: "from another", Rules: Forward("ipsec in ip saddr 203.0.113.8 accept; drop"), ESP: "delivered", Inner: "dropped in forward"},
	{
		Name:  "prerouting sees both",
		Rules: "table inet filter {\n\tchain pre {\n\t\ttype filter hook prerouting priority 0;\n\t\tip saddr 10.2.0.0/24 drop\n\t}\n}\n",
		ESP:   "delivered",
		Inner: "dropped in prerouting",
	},
	{Name: "in the clear, for the domain", Clear: true, Inner: "dropped in policy"},
	{Name: "in the clear, and no policy", Clear: true, Down: true, Inner: "CLEAR from 10.2.0.5"},
}

// Policies are the lines for ip -batch that do in a kernel what the IKE daemon does for packets that come in.
func (c Inbound) Policies() []string {
	if c.Down {
		return nil
	}
	const between = "src 203.0.113.9 dst 198.51.100.1 proto esp"
	lines := []string{"xfrm state add " + between + " spi 0x2 mode tunnel " + Keys}
	for _, dir := range []string{"in", "fwd"} {
		lines = append(lines, "xfrm policy add src 10.2.0.0/24 dst 10.1.0.0/24 dir "+dir+" tmpl "+between+" mode tunnel")
	}
	return lines
}
