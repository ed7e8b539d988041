package cases

import (
	"fmt"
	"strings"
)

// Interface is a way to route into a tunnel: an interface t0 whose packets IPsec protects. The far end has the same.
type Interface struct {
	Name   string
	Detail string // of the interface, as ip -d prints it; PEER stands for the far end's address
	Device string // for ip link add, likewise; OWN stands for the gateway's address
	Child  string // statements of the gateway's child
	Domain string // the selectors of the policy, for ip xfrm; OWN and PEER stand for addresses
	Select string // further words that limit state and policy, for ip xfrm
	Mode   string // of the SA
}

// Interfaces are the kinds of tunnel interfaces.
var Interfaces = []Interface{
	{Name: "VTI", Detail: "vti remote PEER local 198.51.100.1 ikey 0.0.0.42 okey 0.0.0.42", Device: "vti remote PEER local OWN key 42",
		Child: "local_ts = 0.0.0.0/0\nremote_ts = 0.0.0.0/0\nmark_in = 42\nmark_out = 42", Domain: "src 0.0.0.0/0 dst 0.0.0.0/0",
		Select: "mark 42", Mode: "tunnel"},
	{Name: "xfrm", Detail: "xfrm if_id 0x2a", Device: "xfrm dev PARENT if_id 42",
		Child: "local_ts = 0.0.0.0/0\nremote_ts = 0.0.0.0/0\nif_id_in = 42\nif_id_out = 42", Domain: "src 0.0.0.0/0 dst 0.0.0.0/0",
		Select: "if_id 42", Mode: "tunnel"},
	{Name: "GRE in transport mode", Detail: "gre remote PEER local 198.51.100.1 ttl inherit", Device: "gre remote PEER local OWN",
		Child: "local_ts = dynamic[gre]\nremote_ts = dynamic[gre]\nmode = transport", Domain: "src OWN/32 dst FAR/32 proto 47",
		Mode: "transport"},
	{Name: "GRE in tunnel mode", Detail: "gre remote PEER local 198.51.100.1 ttl inherit", Device: "gre remote PEER local OWN",
		Child: "local_ts = 198.51.100.1/32\nremote_ts = 203.0.113.9/32", Domain: "src OWN/32 dst FAR/32", Mode: "tunnel"},
	{Name: "IPIP", Detail: "ipip ipip remote PEER local 198.51.100.1 ttl inherit", Device: "ipip remote PEER local OWN",
		Child: "local_ts = dynamic[4]\nremote_ts = dynamic[4]\nmode = transport", Domain: "src OWN/32 dst FAR/32 proto 4",
		Mode: "transport"},
}

// By is an echo request that is routed into a tunnel interface, or comes out of it, and what became of it.
type By struct {
	Name    string
	Rules   string // nftables
	Routes  string // in place of the route into the interface, as ip route prints them
	Down    bool   // neither policy nor SA stands
	Trap    bool   // the policy stands, and no SA
	Peer    string // the interface's remote address; "" for the right one
	Encap   bool   // ESP in UDP
	Inbound bool   // from 10.2.0.5 to 10.1.0.10 through the tunnel
	Want    map[string]string
}

// routed is the route into the interface.
const routed = "10.2.0.0/24 dev t0\n"

// Files are what the gateway saved: ip(8)'s output and swanctl.conf.
func (b By) Files(i Interface) (network, daemon string) {
	peer, routes := b.Peer, b.Routes
	if peer == "" {
		peer = "203.0.113.9"
	}
	if routes == "" {
		routes = routed
	}
	links, rest, _ := strings.Cut(Network, "default via")
	network = links + "4: t0@NONE: <POINTOPOINT,NOARP,UP,LOWER_UP> mtu 1400\n    " + strings.ReplaceAll(
		i.Detail,
		"PEER",
		peer,
	) + "\n    inet 172.31.255.1/30 scope global t0\n" +
		"default via" + rest + "172.31.255.0/30 dev t0 proto kernel scope link src 172.31.255.1\n" + routes
	child := i.Child
	if b.Trap {
		child += "\nstart_action = trap"
	}
	daemon = strings.Replace(Daemon, "local_ts = 10.1.0.0/24\n        remote_ts = 10.2.0.0/24\n        START", child, 1)
	if b.Encap {
		daemon = strings.Replace(daemon, "remote_addrs =", "encap = yes\n    remote_addrs =", 1)
	}
	return network, daemon
}

// Batches are the lines for ip -batch in the gateway and at the far end.
func (b By) Batches(i Interface) (gateway, far []string) {
	const gw, wan = "198.51.100.1", "203.0.113.9"
	peer := b.Peer
	if peer == "" {
		peer = wan
	}
	end := func(own, remote, parent, address, routes string) []string {
		device := strings.NewReplacer("OWN", own, "PEER", remote, "PARENT", parent).Replace(i.Device)
		lines := []string{"link add t0 type " + device, "addr add " + address + " dev t0", "link set t0 mtu 1400 up"}
		for r := range strings.Lines(routes) {
			lines = append(lines, "route replace "+strings.TrimSpace(r))
		}
		return lines
	}
	routes := b.Routes
	if routes == "" {
		routes = routed
	}
	gateway = end(gw, peer, "wan0", "172.31.255.1/30", routes)
	far = end(wan, gw, "eth0", "172.31.255.2/30", "10.1.0.0/24 dev t0 src 10.2.0.5")
	encap := ""
	if b.Encap {
		encap = " encap espinudp 4500 4500 0.0.0.0"
	}
	state := func(src, dst string, spi int) string {
		return fmt.Sprintf(
			"xfrm state add src %s dst %s proto esp spi 0x%x mode %s %s %s%s",
			src,
			dst,
			spi,
			i.Mode,
			i.Select,
			Keys,
			encap,
		)
	}
	policy := func(src, dst, dir string) string {
		domain := strings.NewReplacer("OWN", src, "FAR", dst).Replace(i.Domain)
		return fmt.Sprintf("xfrm policy add %s dir %s %s tmpl src %s dst %s proto esp mode %s", domain, dir, i.Select, src, dst, i.Mode)
	}
	far = append(
		far,
		"xfrm state flush",
		state(gw, wan, 1),
		state(wan, gw, 2),
		policy(wan, gw, "out"),
		policy(gw, wan, "in"),
		policy(gw, wan, "fwd"),
	)
	switch {
	case b.Trap:
		gateway = append(gateway, policy(gw, wan, "out"), policy(wan, gw, "in"), policy(wan, gw, "fwd"))
	case !b.Down:
		gateway = append(
			gateway,
			state(gw, wan, 1),
			state(wan, gw, 2),
			policy(gw, wan, "out"),
			policy(wan, gw, "in"),
			policy(wan, gw, "fwd"),
		)
	}
	return gateway, far
}

// Input writes a chain of the input hook with rules that are parted by "; ".
func Input(rules string) string {
	return "table inet in {\n\tchain input {\n\t\ttype filter hook input priority 0;\n\t\t" + strings.ReplaceAll(
		rules,
		"; ",
		"\n\t\t",
	) + "\n\t}\n}\n"
}

// Output writes a chain of the output hook, likewise.
func Output(rules string) string {
	return "table inet out {\n\tchain output {\n\t\ttype filter hook output priority 0;\n\t\t" + strings.ReplaceAll(
		rules,
		"; ",
		"\n\t\t",
	) + "\n\t}\n}\n"
}

const (
	bare = "CLEAR, wrapped, from 198.51.100.1"
	out  = "CLEAR from 10.2.0.5"
)

// all and either are what is wanted of every kind of interface; or of those that are part of IPsec, and of those that wrap.
func all(want string) map[string]string { return map[string]string{"": want} }

func either(ipsec, wraps string) map[string]string {
	return map[string]string{"VTI": ipsec, "xfrm": ipsec, "": wraps}
}

// AllBy are the cases; what is wanted stands under the interface's name, or under "" for those that have none of their own.
var AllBy = []By{
	{Name: "up", Want: all(esp)},
	{Name: "down", Down: true, Want: either("dropped in encapsulation", bare)},
	{Name: "trapped", Trap: true, Want: either("dropped in encapsulation", "wrapped, dropped in policy")},
	{Name: "in UDP", Encap: true, Want: all(esp)},
	{Name: "masquerade on the WAN", Rules: Nat(`oifname "wan0" masquerade`), Want: all(esp)},
	{
		Name:  "masquerade on the tunnel",
		Rules: Nat(`oifname "t0" masquerade`),
		Want:  all("ESP from 172.31.255.1, outer from 198.51.100.1"),
	},
	{Name: "masquerade everywhere", Rules: Nat(`masquerade`), Want: all("ESP from 172.31.255.1, outer from 198.51.100.1")},
	{
		Name:  "source NAT by source",
		Rules: Nat(`ip saddr 10.1.0.0/24 snat to 198.51.100.1`),
		Want:  all("ESP from 198.51.100.1, outer from 198.51.100.1"),
	},
	{Name: "no route in", Routes: "172.30.0.0/24 dev t0\n", Want: all("CLEAR from 10.1.0.10")},
	{
		Name:   "no route in, masquerade",
		Routes: "172.30.0.0/24 dev t0\n",
		Rules:  Nat(`oifname "wan0" masquerade`),
		Want:   all("CLEAR from 198.51.100.1"),
	},
	{Name: "a blackhole of a worse metric", Routes: routed + "blackhole 10.2.0.0/24 metric 200\n", Want: all(esp)},
	{Name: "a blackhole that is narrower", Routes: routed + "blackhole 10.2.0.0/28\n", Want: all("dropped in route")},
	{
		Name: "the remote address is mistyped",
		Peer: "203.0.113.8",
		Want: map[string]string{"VTI": "dropped in encapsulation", "xfrm": esp, "": bare},
	},
	{Name: "forward names the tunnel", Rules: Forward(`oifname "t0" accept; drop`), Want: all(esp)},
	{Name: "forward names the WAN", Rules: Forward(`oifname "wan0" accept; drop`), Want: all("dropped in forward")},
	{Name: "forward asks whether it will be encrypted", Rules: Forward(`rt ipsec exists accept; drop`), Want: all("dropped in forward")},
	{
		Name: "postrouting names the WAN",
		Rules: "table inet p {\n\tchain post {\n\t\ttype filter hook postrouting priority 0;\n" +
			"\t\toifname \"wan0\" meta l4proto != esp drop\n\t}\n}\n",
		Want: either("dropped in postrouting", "wrapped, dropped in postrouting"),
	},
	{
		Name:  "output drops what is not encrypted",
		Down:  true,
		Rules: Output(`meta l4proto { 4, 47 } rt ipsec missing drop`),
		Want:  either("dropped in encapsulation", "wrapped, dropped in output"),
	},
	{Name: "output, up", Rules: Output(`meta l4proto { 4, 47 } rt ipsec missing drop`), Want: all(esp)},

	{Name: "out of it", Inbound: true, Want: all(out)},
	{Name: "forward from the tunnel", Inbound: true, Rules: Forward(`iifname "t0" accept; drop`), Want: all(out)},
	{Name: "forward from the WAN", Inbound: true, Rules: Forward(`iifname "wan0" accept; drop`), Want: all("dropped in forward")},
	{
		Name:    "forward of what was decrypted",
		Inbound: true,
		Rules:   Forward(`meta ipsec exists accept; drop`),
		Want:    map[string]string{"xfrm": out, "": "dropped in forward"},
	},
	{
		Name:    "input of GRE and IPIP closed",
		Inbound: true,
		Rules:   Input(`meta l4proto { 4, 47 } drop`),
		Want:    either(out, "dropped in input"),
	},
	{
		Name:    "input of GRE and IPIP if decrypted",
		Inbound: true,
		Rules:   Input(`meta l4proto { 4, 47 } meta ipsec exists accept; meta l4proto { 4, 47 } drop`),
		Want:    all(out),
	},
	{Name: "input of ESP closed", Inbound: true, Rules: Input(`meta l4proto esp drop`), Want: all("dropped in input")},
}

// Wants is what is wanted of a kind of interface.
func (b By) Wants(i Interface) string {
	if w, ok := b.Want[i.Name]; ok {
		return w
	}
	return b.Want[""]
}
