package suite_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing/fstest"
)

// random makes estates of two gateways with a tunnel between them, most of them with something wrong in one place or another.
type random struct {
	*rand.Rand
	style  string // how packets get into the tunnel
	ends   [2]*end
	sound  bool // nothing is put wrong on purpose
	moved  bool // both sites have the same networks, and go by others in the tunnel
	marked bool // what comes out of the tunnel is known by the mark of its connection
	faults []string
}

// end is what one gateway of a random estate is told.
type end struct {
	name, own       string
	nets            []string // behind it, as they are known in the tunnel
	inside          []string // and as they are
	local, remote   []string // selectors
	proposals, esp  string
	version         int
	id, peerID, key string
	start           string
}

// chance is true once in n times, and never in a sound estate; it remembers what is put wrong.
func (r *random) chance(n int, fault string) bool {
	if r.sound || r.IntN(n) > 0 {
		return false
	}
	r.faults = append(r.faults, fault)
	return true
}

func (r *random) pick(words ...string) string { return words[r.IntN(len(words))] }

// randomEstate makes the estate of a seed. Of three one is sound.
func randomEstate(seed int) (fsys fstest.MapFS, faults []string, sound bool) {
	r := &random{Rand: rand.New(rand.NewPCG(20261126, uint64(seed)))}
	r.sound = seed%3 == 0
	r.style = r.pick("policy", "policy", "policy", "xfrm", "vti", "gre")
	version, esp := 2, r.pick("aes256gcm16-ecp384", "aes256gcm16-modp3072", "aes256-sha256-ecp256", "aes256gcm16")
	if r.sound {
		esp = "aes256gcm16-ecp384"
	}
	for i := range r.ends {
		e := &end{
			name:      []string{"tarn", "weir"}[i],
			own:       []string{"198.51.100.7", "203.0.113.9"}[i],
			proposals: "aes256gcm16-prfsha384-ecp384",
			version:   version,
			esp:       esp,
			key:       "Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs",
		}
		for n := range 1 + r.IntN(3) {
			e.nets = append(e.nets, fmt.Sprintf("10.%d.%d.0/24", 31+i*10, n*4))
		}
		e.id = e.name + ".example"
		e.start = r.pick("trap", "trap", "start")
		if r.sound && (r.style == "policy" || r.style == "gre") { // started at boot, packets leave in the clear while it is down
			e.start = "trap"
		}
		r.ends[i] = e
	}
	r.moved, r.marked = r.style == "policy" && r.IntN(5) == 0, r.IntN(5) == 0
	for i, e := range r.ends {
		far := r.ends[1-i]
		if e.inside = e.nets; r.moved {
			e.inside = nil
			for n := range e.nets {
				e.inside = append(e.inside, fmt.Sprintf("192.168.%d.0/24", n))
			}
		}
		e.peerID, e.local, e.remote = far.id, append([]string{}, e.nets...), append([]string{}, far.nets...)
	}
	for i, e := range r.ends {
		r.spoil(e, r.ends[1-i])
	}
	fsys = fstest.MapFS{}
	for i, e := range r.ends {
		for name, text := range r.files(e, r.ends[1-i]) {
			fsys[e.name+"/"+name] = &fstest.MapFile{Data: []byte(text)}
		}
	}
	return fsys, r.faults, r.sound
}

// spoil puts things wrong at an end.
func (r *random) spoil(e, far *end) {
	if r.chance(8, "network left out of the selectors") && len(e.local) > 1 {
		e.local = e.local[1:]
	}
	if r.chance(10, "selectors of the far end left out") && len(e.remote) > 1 {
		e.remote = e.remote[:1]
	}
	if r.chance(12, "another network") {
		e.remote = []string{"10.99.0.0/24"}
	}
	if r.chance(10, "other proposals") {
		e.proposals = r.pick("aes128-sha256-modp2048", "aes256gcm16-prfsha256-ecp256")
	}
	if r.chance(8, "other ESP") {
		e.esp = r.pick("aes128-sha256", "aes256gcm16-modp2048", "aes256gcm16", "aes256-sha256-ecp384-modpnone")
	}
	if r.chance(14, "IKEv1") {
		e.version = 1
	}
	if r.chance(12, "another identity") {
		e.id = e.name + ".example.net"
	}
	if r.chance(12, "another key") {
		e.key = "Qw7nTz4KxV9mRb2LcY6pHs8DgJe3AuFo"
	}
	if r.chance(10, "waits") {
		e.start = "none"
	}
	if r.chance(20, "address mistyped") {
		far.own = strings.Replace(far.own, "9", "8", 1)
	}
}

func (r *random) files(e, far *end) map[string]string {
	return map[string]string{
		"swanctl.conf": r.daemon(e, far),
		"net.txt":      r.network(e, far),
		"rules.nft":    r.ruleset(e, far),
		"strongswan.conf": map[bool]string{true: "charon {\n  install_routes = no\n}\n", false: "charon {\n}\n"}[r.style != "policy" &&
			!r.chance(10, "routes of the daemon")],
	}
}

// otherForms writes what an estate of policies says in other formats: the connections as an ipsec.conf of strongSwan or Libreswan or an
// iked.conf, addresses and routes as JSON or as files of networkd, netplan or ifupdown, the filter as iptables-save. It is sound.
func otherForms(seed int) fstest.MapFS {
	r := &random{Rand: rand.New(rand.NewPCG(20261201, uint64(seed)))}
	fsys := fstest.MapFS{}
	daemon := r.pick("ipsec.conf", "ipsec.conf", "libreswan", "iked")
	nets := [2][]string{{"10.31.0.0/24"}, []string{"10.41.0.0/24", "10.41.4.0/24"}[:1+r.IntN(2)]}
	names, own := []string{"tarn", "weir"}, []string{"198.51.100.7", "203.0.113.9"}
	for i, name := range names {
		put := func(file, text string) { fsys[name+"/"+file] = &fstest.MapFile{Data: []byte(text)} }
		far, mine, theirs := names[1-i], nets[i], nets[1-i]
		switch daemon {
		case "ipsec.conf":
			put("ipsec.conf", fmt.Sprintf(`config setup
    uniqueids=no

conn %%default
    keyexchange=ikev2
    ike=aes256gcm16-prfsha384-ecp384!
    esp=aes256gcm16-ecp384!
    dpddelay=30s
    dpdaction=restart
    replay_window=64

conn to-%s
    left=%s
    leftid=%s.example
    leftauth=psk
    leftsubnet=%s
    right=%s
    rightid=%s.example
    rightauth=psk
    rightsubnet=%s
    auto=route
`, far, own[i], name, strings.Join(mine, ","), own[1-i], far, strings.Join(theirs, ",")))
			put("ipsec.secrets", fmt.Sprintf("%s.example %s.example : PSK \"Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs\"\n", name, far))
			put("strongswan.conf", "charon {\n  install_routes = yes\n}\n")
		case "libreswan":
			put("ipsec.conf", fmt.Sprintf(`config setup
    logfile=/var/log/pluto.log

conn to-%s
    authby=secret
    ikev2=insist
    ike=aes_gcm256-sha2_384;dh20
    esp=aes_gcm256;dh20
    left=%s
    leftid=@%s.example
    leftsubnets={%s}
    right=%s
    rightid=@%s.example
    rightsubnets={%s}
    dpddelay=30
    dpdtimeout=120
    dpdaction=hold
    replay-window=64
    auto=ondemand
`, far, own[i], name, strings.Join(mine, " "), own[1-i], far, strings.Join(theirs, " ")))
			put("ipsec.secrets", fmt.Sprintf("@%s.example @%s.example : PSK \"Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs\"\n", name, far))
		default:
			flows := ""
			for _, a := range mine {
				for _, b := range theirs {
					flows += fmt.Sprintf("\tfrom %s to %s \\\n", a, b)
				}
			}
			put(
				"iked.conf",
				fmt.Sprintf("ikev2 \"to-%s\" active esp \\\n%s\tlocal %s peer %s \\\n\tikesa enc aes-256 prf hmac-sha2-384 auth "+
					"hmac-sha2-384 group ecp384 \\\n\tchildsa enc aes-256 auth hmac-sha2-384 group ecp384 \\\n\tsrcid %s.example dstid "+
					"%s.example \\\n\tikelifetime 4h lifetime 1h bytes 4G \\\n\tpsk \"Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs\"\n",
					far, flows, own[i], own[1-i], name, far),
			)
		}
		r.otherNetwork(put, own[i], mine)
		if r.IntN(2) == 0 {
			put("iptables.save", iptables(own[1-i], mine, theirs, daemon == "iked"))
		} else {
			put("rules.nft", r.soundRules(own[1-i], mine, theirs, daemon == "iked"))
		}
	}
	return fsys
}

// otherNetwork writes addresses and routes.
func (r *random) otherNetwork(put func(file, text string), own string, mine []string) {
	gateway := own[:strings.LastIndex(own, ".")] + ".254"
	inside := func(n string) string { return strings.Replace(n, ".0/24", ".1/24", 1) }
	switch r.pick("json", "networkd", "netplan", "interfaces", "text") {
	case "json":
		links := `{"ifname":"lo","flags":["LOOPBACK","UP"],"link_type":"loopback","addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8}]},` +
			fmt.Sprintf(
				`{"ifname":"wan0","flags":["UP"],"link_type":"ether","addr_info":[{"family":"inet","local":"%s","prefixlen":24}]}`,
				own,
			)
		routes := fmt.Sprintf(`{"dst":"default","gateway":"%s","dev":"wan0","protocol":"static"}`, gateway)
		for i, n := range mine {
			at := strings.TrimSuffix(inside(n), "/24")
			links += fmt.Sprintf(
				`,{"ifname":"lan%d","flags":["UP"],"link_type":"ether","addr_info":[{"family":"inet","local":"%s","prefixlen":24}]}`,
				i,
				at,
			)
			routes += fmt.Sprintf(`,{"dst":"%s","dev":"lan%d","protocol":"kernel","prefsrc":"%s"}`, n, i, at)
		}
		put("ip-addr.json", "["+links+"]\n")
		put("ip-route.json", "["+routes+"]\n")
	case "networkd":
		put("10-wan0.network", fmt.Sprintf("[Match]\nName=wan0\n\n[Network]\nAddress=%s/24\nGateway=%s\n", own, gateway))
		for i, n := range mine {
			put(fmt.Sprintf("2%d-lan%d.network", i, i), fmt.Sprintf("[Match]\nName=lan%d\n\n[Network]\nAddress=%s\n", i, inside(n)))
		}
	case "netplan":
		text := fmt.Sprintf(
			"network:\n  version: 2\n  ethernets:\n    wan0:\n      addresses: [%s/24]\n      routes:\n      - to: default\n        via: %s\n",
			own,
			gateway,
		)
		for i, n := range mine {
			text += fmt.Sprintf("    lan%d:\n      addresses:\n      - %s\n", i, inside(n))
		}
		put("50-net.yaml", text)
	case "interfaces":
		text := fmt.Sprintf(
			"auto lo\niface lo inet loopback\n\nauto wan0\niface wan0 inet static\n  address %s/24\n  gateway %s\n",
			own,
			gateway,
		)
		for i, n := range mine {
			text += fmt.Sprintf(
				"\nauto lan%d\niface lan%d inet static\n  address %s\n  netmask 255.255.255.0\n",
				i,
				i,
				strings.TrimSuffix(inside(n), "/24"),
			)
		}
		put("interfaces", text)
	default:
		text := fmt.Sprintf(
			"1: lo: <LOOPBACK,UP> mtu 65536\n    inet 127.0.0.1/8 scope host lo\n2: wan0: <UP> mtu 1500\n    inet %s/24 scope global wan0\n",
			own,
		)
		routes := fmt.Sprintf("default via %s dev wan0 proto static\n", gateway)
		for i, n := range mine {
			text += fmt.Sprintf("%d: lan%d: <UP> mtu 1500\n    inet %s scope global lan%d\n", 3+i, i, inside(n), i)
			routes += fmt.Sprintf("%s dev lan%d proto kernel scope link src %s\n", n, i, strings.TrimSuffix(inside(n), "/24"))
		}
		put("ip-addr.txt", text)
		put("ip-route.txt", routes)
	}
}

// iptables writes a sound filter as iptables-save does, with a guard for a daemon that traps nothing.
func iptables(peer string, mine, theirs []string, guard bool) string {
	var b strings.Builder
	b.WriteString("*nat\n:PREROUTING ACCEPT [0:0]\n:INPUT ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n" +
		"-A POSTROUTING -o wan0 -m policy --dir out --pol ipsec -j ACCEPT\n")
	if guard {
		for _, n := range theirs {
			for _, m := range mine {
				fmt.Fprintf(&b, "-A POSTROUTING -s %s -d %s -o wan0 -j ACCEPT\n", m, n)
			}
		}
	}
	b.WriteString(
		"-A POSTROUTING -s 10.0.0.0/8 -o wan0 -j MASQUERADE\nCOMMIT\n" +
			"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n",
	)
	fmt.Fprintf(&b, "-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A INPUT -i lo -j ACCEPT\n"+
		"-A INPUT -s %[1]s/32 -i wan0 -p udp -m multiport --dports 500,4500 -j ACCEPT\n-A INPUT -s %[1]s/32 -i wan0 -p esp -j ACCEPT\n"+
		"-A INPUT -p icmp -m icmp --icmp-type 8 -j ACCEPT\n", peer)
	if guard {
		for _, n := range theirs {
			fmt.Fprintf(&b, "-A FORWARD -d %s -m policy --dir out --pol none -j DROP\n", n)
		}
	}
	b.WriteString("-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n")
	for _, a := range mine {
		for _, c := range theirs {
			fmt.Fprintf(&b, "-A FORWARD -s %[1]s -d %[2]s -p tcp -m tcp --dport 443 -m comment --comment \"to %[2]s\" -j ACCEPT\n", a, c)
			fmt.Fprintf(
				&b,
				"-A FORWARD -s %s -d %s -m policy --dir in --pol ipsec -p tcp -m multiport --dports 443,8443 -j ACCEPT\n",
				c,
				a,
			)
		}
	}
	b.WriteString("COMMIT\n")
	return b.String()
}

// soundRules does so as nft does.
func (r *random) soundRules(peer string, mine, theirs []string, guard bool) string {
	list := func(nets []string) string { return "{ " + strings.Join(nets, ", ") + " }" }
	stop, spare := "", ""
	if guard {
		stop = fmt.Sprintf("    ip daddr %s rt ipsec missing drop\n", list(theirs))
		spare = fmt.Sprintf("    ip saddr %s ip daddr %s accept\n", list(mine), list(theirs))
	}
	return fmt.Sprintf(`table inet filter {
  set theirs {
    type ipv4_addr
    flags interval
    elements = %[3]s
  }
  chain input {
    type filter hook input priority filter; policy drop;
    ct state established,related accept
    iifname "lo" accept
    iifname "wan0" ip saddr %[1]s udp dport { 500, 4500 } accept
    iifname "wan0" ip saddr %[1]s meta l4proto esp accept
    icmp type echo-request limit rate 10/second accept
  }
  chain forward {
    type filter hook forward priority filter; policy drop;
%[4]s    ct state vmap { established : accept, related : accept, invalid : drop }
    ip saddr %[2]s ip daddr @theirs tcp dport 443 counter accept
    meta ipsec exists ip saddr @theirs ip daddr %[2]s jump inside
  }
  chain inside {
    tcp dport { 443, 8443 } log prefix "in " accept
  }
}
table ip nat {
  chain post {
    type nat hook postrouting priority srcnat; policy accept;
    rt ipsec exists accept
%[5]s    oifname "wan0" ip saddr 10.0.0.0/8 masquerade
  }
}
`, peer, list(mine), list(theirs), stop, spare)
}

func (r *random) daemon(e, far *end) string {
	local, remote, more := strings.Join(e.local, ", "), strings.Join(e.remote, ", "), ""
	if r.style != "policy" {
		local, remote = "0.0.0.0/0", "0.0.0.0/0"
	}
	switch r.style {
	case "xfrm":
		more = "if_id_in = 42\n        if_id_out = 42"
	case "vti":
		more = "mark_in = 42\n        mark_out = 42"
	case "gre":
		local, remote, more = "dynamic[gre]", "dynamic[gre]", "mode = transport"
	}
	if r.style != "policy" && r.chance(12, "no identifier") {
		more = strings.Replace(more, "42", "43", 1)
	}
	bypass := ""
	if r.style == "policy" && !r.moved && r.chance(12, "a child that lets pass and is wider") {
		bypass = fmt.Sprintf("bypass {\n        local_ts = %s\n        remote_ts = 10.0.0.0/8\n        mode = pass\n        start_action = trap\n      }", e.nets[0])
	}
	return fmt.Sprintf(`connections {
  to-%s {
    version = %d
    local_addrs = %s
    remote_addrs = %s
    proposals = %s
    dpd_delay = 30s
    local {
      auth = psk
      id = %s
    }
    remote {
      auth = psk
      id = %s
    }
    children {
      net {
        local_ts = %s
        remote_ts = %s
        esp_proposals = %s
        replay_window = 64
        start_action = %s
        %s
      }
      %s
    }
  }
}
secrets {
  ike-%s {
    id-own = %s
    id-peer = %s
    secret = %s
  }
}
`, far.name, e.version, e.own, far.own, e.proposals, e.id, e.peerID, local, remote, e.esp, e.start, more, bypass, far.name, e.id, e.peerID, e.key)
}

func (r *random) network(e, far *end) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"1: lo: <LOOPBACK,UP> mtu 65536\n    inet 127.0.0.1/8 scope host lo\n2: wan0: <UP> mtu 1500\n    inet %s/24 scope global wan0\n",
		e.own,
	)
	for i, n := range e.inside {
		fmt.Fprintf(&b, "%d: lan%d: <UP> mtu 1500\n    inet %s scope global lan%d\n", 3+i, i, strings.Replace(n, ".0/24", ".1/24", 1), i)
	}
	detail := map[string]string{"xfrm": "xfrm if_id 0x2a",
		"vti": fmt.Sprintf("vti remote %s local %s ikey 0.0.0.42 okey 0.0.0.42", far.own, e.own),
		"gre": fmt.Sprintf("gre remote %s local %s ttl 64", far.own, e.own)}[r.style]
	if detail != "" {
		fmt.Fprintf(
			&b,
			"9: t0@NONE: <POINTOPOINT,NOARP,UP> mtu 1400\n    %s\n    inet 172.31.255.%d/30 scope global t0\n",
			detail,
			map[string]int{"tarn": 1, "weir": 2}[e.name],
		)
	}
	if !r.chance(20, "no default route") {
		fmt.Fprintf(&b, "default via %s.254 dev wan0\n", e.own[:strings.LastIndex(e.own, ".")])
	}
	for i, n := range e.inside {
		fmt.Fprintf(&b, "%s dev lan%d proto kernel\n", n, i)
	}
	for _, n := range far.nets {
		if detail != "" && !r.chance(10, "no route in") {
			fmt.Fprintf(&b, "%s dev t0\n", n)
		}
		if r.chance(20, "blackhole") {
			fmt.Fprintf(&b, "blackhole %s metric 5\n", n)
		}
	}
	return b.String()
}

func (r *random) ruleset(e, far *end) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line(
		"table inet filter {\n  chain input {\n    type filter hook input priority filter; policy drop;\n" +
			"    ct state established,related accept\n    iifname lo accept",
	)
	if !r.chance(14, "IKE closed") {
		line("    ip saddr %s udp dport { 500, 4500 } accept", far.own)
	}
	if !r.chance(14, "ESP closed") {
		line("    ip saddr %s meta l4proto esp accept", far.own)
	}
	if r.style == "gre" && !r.chance(10, "GRE closed") {
		line("    ip saddr %s meta l4proto gre meta ipsec exists accept", far.own)
	}
	line(
		"    icmp type { echo-request, destination-unreachable, time-exceeded } accept\n  }\n  chain forward {\n" +
			"    type filter hook forward priority filter; policy drop;",
	)
	if !r.chance(10, "answers") {
		line("    ct state established,related accept")
	}
	if r.chance(12, "a rule that drops first") {
		line("    ip daddr %s drop", far.nets[0])
	}
	what := r.pick("tcp dport { 443, 8443 }", "tcp dport 443", "meta l4proto { tcp, udp }")
	comes := map[bool]string{true: "ct mark 0x20 "}[r.marked]
	for _, mine := range e.inside {
		for _, theirs := range far.nets {
			if !r.chance(14, "no rule out") {
				line("    ip saddr %s ip daddr %s %s log accept", mine, theirs, what)
			}
			if !r.chance(14, "no rule in") {
				line("    %sip saddr %s ip daddr %s %s log accept", comes, theirs, mine, what)
			}
		}
	}
	line("  }")
	if r.marked {
		mark := "0x20"
		if r.chance(8, "another mark") {
			mark = "0x2"
		}
		from := "meta ipsec exists"
		if r.style == "vti" || r.style == "gre" {
			from = `iifname "t0"`
		}
		line("  chain marks {\n    type filter hook prerouting priority mangle;\n    %s ct mark set %s\n  }", from, mark)
	}
	if r.chance(8, "output") {
		line(
			"  chain output {\n    type filter hook output priority filter; policy drop;\n    ct state established,related accept\n"+
				"    udp dport { 500, 4500 } accept\n    %s\n  }",
			r.pick("meta l4proto esp accept", "meta l4proto { tcp, udp } accept", ""),
		)
	}
	line("}")
	exempt := ""
	if r.style == "policy" {
		switch {
		case r.chance(8, "no exemption"):
		case r.chance(10, "narrow exemption"):
			exempt = fmt.Sprintf("    ip daddr %s accept\n", far.nets[0])
		default:
			exempt = "    rt ipsec exists accept\n"
		}
	}
	out := `oifname "wan0"`
	if r.style != "policy" && r.chance(12, "NAT everywhere") {
		out = ""
	}
	rest := fmt.Sprintf("    ip saddr { 10.0.0.0/8, 192.168.0.0/16 } %s masquerade\n", out)
	if r.moved {
		var there, back []string
		for i, n := range e.nets {
			there, back = append(there, e.inside[i]+" : "+n), append(back, n+" : "+e.inside[i])
		}
		far := strings.Join(far.nets, ", ")
		moves := fmt.Sprintf("    ip daddr { %s } snat ip prefix to ip saddr map { %s }\n", far, strings.Join(there, ", "))
		if exempt += moves; r.chance(10, "masquerade first") {
			exempt, rest = rest, moves
		}
		line("table ip moved {\n  chain pre {\n    type nat hook prerouting priority dstnat;\n"+
			"    ip saddr { %s } dnat ip prefix to ip daddr map { %s }\n  }\n}", far, strings.Join(back, ", "))
	}
	line("table ip nat {\n  chain post {\n    type nat hook postrouting priority srcnat;\n%s%s  }\n}", exempt, rest)
	return b.String()
}
