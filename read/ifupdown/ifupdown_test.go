package ifupdown_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/lab/cases"
	"toril/read/ifupdown"
	"toril/read/readtest"
	"toril/source"
)

func TestInterfaces(t *testing.T) {
	g := readtest.Read(ifupdown.Format, "interfaces", `# headland
source interfaces.d/*
auto lo eth0
iface lo inet loopback

iface eth0 inet static
	address 192.0.2.1
	netmask 255.255.255.0
	gateway 192.0.2.254
	dns-nameservers 192.0.2.53
	up ip route add 10.9.0.0/16 via 192.0.2.9 || true
	post-up /sbin/ip route add blackhole 10.2.0.0/16 metric 4278198272
	up route add -net 10.8.0.0 netmask 255.255.0.0 gw 192.0.2.8
	up iptables -A INPUT -j DROP
iface eth0:1 inet static
	address 192.0.2.2/24
iface eth0 inet6 static
	address 2001:db8::1
	netmask 64
	gateway 2001:db8::2

allow-hotplug ppp0
iface ppp0 inet ppp
	provider isp

iface ipsec0 inet manual
	pre-up ip link add ipsec0 type xfrm dev eth0 if_id 42
	up ip link set $IFACE up
	up ip route add 10.3.0.0/16 dev $IFACE
	up ip tunnel add vti1 mode vti local 192.0.2.1 remote 198.51.100.7 key 43
	up ip addr add 10.255.0.1/30 dev vti1

mapping eth1
	script /bin/x
`, map[string]string{"interfaces.d/lan": "iface lan0 inet static\n\taddress 10.1.0.1/16\n"})
	assert.Equal(t, []string{`interfaces:14: the command "iptables -A INPUT -j DROP" is not read`}, readtest.Unread(g))
	assert.Equal(t, `interface lan0  [10.1.0.1/16] down false dynamic false
interface lo loopback [127.0.0.1/8] down false dynamic false
interface eth0  [192.0.2.1/24 192.0.2.2/24 2001:db8::1/64] down false dynamic false
interface ppp0  [] down false dynamic true
interface ipsec0 xfrm [] if_id 42 key 0 invalid IP > invalid IP on eth0 down false dynamic false
interface vti1 vti [10.255.0.1/30] if_id 0 key 43 192.0.2.1 > 198.51.100.7 down false dynamic false
route unicast 0.0.0.0/0 via 192.0.2.254 dev eth0 table main metric 0 src invalid IP static
route unicast 10.9.0.0/16 via 192.0.2.9 dev  table main metric 0 src invalid IP static
route blackhole 10.2.0.0/16 via invalid IP dev  table main metric 4278198272 src invalid IP static
route unicast 10.8.0.0/16 via 192.0.2.8 dev  table main metric 0 src invalid IP static
route unicast ::/0 via 2001:db8::2 dev eth0 table main metric 0 src invalid IP static
route unicast 10.3.0.0/16 via invalid IP dev ipsec0 table main metric 0 src invalid IP static
`, readtest.Network(g))
}

func TestMistakes(t *testing.T) {
	g := readtest.Read(
		ifupdown.Format,
		"interfaces",
		"iface eth0\n\taddress 192.0.2.1\niface eth1 inet static\n\taddress nowhere\n\tnetmask 24\n\tgateway there\n\tcolour green\n"+
			"\tup ip route add x\n",
		nil,
	)
	assert.Equal(t, []string{"interfaces:1: a stanza is: iface NAME inet|inet6 METHOD", `interfaces:4: "nowhere" is not an address`,
		`interfaces:6: "there" is not an address`, `interfaces:7: "colour" is not a known option`,
		`interfaces:8: it is neither an interface nor a route nor a rule: "x" is not a network`}, readtest.Unread(g))
}

func TestRecognition(t *testing.T) {
	score, why := ifupdown.Format.Looks(source.NewFile("x", []byte("auto lo\niface lo inet loopback\n")))
	assert.Equal(t, 85, score)
	assert.Contains(t, why, "stanzas")
}

func FuzzInterfaces(f *testing.F) {
	f.Add(
		"iface eth0 inet static\n\taddress 192.0.2.1\n\tnetmask 255.255.255.0\n\tup ip route add 10.0.0.0/8 dev $IFACE\n" +
			"\tup ip link add x\n",
	)
	f.Add("source interfaces\n\tup route add -net 10.0.0.0 netmask 1.2.3.4 gw x\nmapping\n")
	f.Fuzz(func(t *testing.T, text string) {
		readtest.Network(readtest.Read(ifupdown.Format, "interfaces", text, nil))
	})
}

// TestWhatTheProgramMakesOfIt: texts as ifquery takes them (lab/formats asks it).
func TestWhatTheProgramMakesOfIt(t *testing.T) {
	for _, c := range cases.Stanzas {
		assert.Equal(t, c.Want, held(c.Text), c.Name)
	}
}

func held(text string) string {
	g := readtest.Read(ifupdown.Format, "interfaces", text, nil)
	if g.RefusedOf(ifupdown.Format.Name) != nil {
		return "refused"
	}
	var out []string
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			if i.Name == "eth0" {
				out = append(out, a.Addr().String())
			}
		}
	}
	return strings.Join(out, " ")
}

func TestTunnelsAndCommands(t *testing.T) {
	g := readtest.Read(
		ifupdown.Format,
		"interfaces",
		"iface tun0 inet tunnel\n mode gre\n local 192.0.2.1\n endpoint 198.51.100.1\n address 10.9.9.1/30\n"+
			" up ip rule add from 10.1.0.0/16 lookup 100 && ip route add default via 10.9.9.2 table 100 || true\n"+
			" up iptables -A INPUT -j ACCEPT\n",
		nil,
	)
	assert.Equal(t, "interface tun0 gre [10.9.9.1/30] if_id 0 key 0 192.0.2.1 > 198.51.100.1 down false dynamic false\n"+
		"route unicast 0.0.0.0/0 via 10.9.9.2 dev  table 100 metric 0 src invalid IP static\n"+
		"rule 32765 10.1.0.0/16 > any -> lookup 100 unsure false\n", readtest.Network(g))
	assert.Equal(t, []string{`interfaces:7: the command "iptables -A INPUT -j ACCEPT" is not read`}, readtest.Unread(g))
}
