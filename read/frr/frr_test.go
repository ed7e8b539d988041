package frr_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/frr"
	"toril/read/readtest"
	"toril/source"
)

const conf = `frr version 8.4.4
frr defaults traditional
hostname headland
password hushhush
service integrated-vtysh-config
!
ip route 10.2.0.0/16 ipsec0
ip route 10.3.0.0 255.255.0.0 Null0
ip route 10.5.0.0/16 192.0.2.9 eth0 200
ip route 10.6.0.0/16 reject table 100
ipv6 route fd00:2::/32 2001:db8::2
no ip route 10.7.0.0/16 192.0.2.9
!
vrf red
 ip route 10.8.0.0/16 192.0.2.8
exit-vrf
!
interface eth0
 ip address 192.0.2.1/24
 ipv6 address 2001:db8::1/64
 ip ospf message-digest-key 1 md5 sesame
exit
!
interface gre1
 ip ospf area 0
 shutdown
exit
!
router ospf
 network 10.1.0.0/16 area 0
 passive-interface eth0
 redistribute static
exit
!
router bgp 64512
 neighbor 10.255.0.2 remote-as 64513
 neighbor 10.255.0.2 password squeamish
 !
 address-family ipv4 unicast
  network 10.1.0.0/16
  redistribute connected
 exit-address-family
exit
!
router rip
 network eth1
exit
!
route-map X permit 10
 match ip address prefix-list Y
exit
end
`

func TestConfiguration(t *testing.T) {
	g := readtest.Read(frr.Format, "frr.conf", conf, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `interface eth0  [192.0.2.1/24 2001:db8::1/64] down false dynamic false
interface gre1  [] down true dynamic false
route unicast 10.2.0.0/16 via invalid IP dev ipsec0 table main metric 0 src invalid IP static
route blackhole 10.3.0.0/16 via invalid IP dev  table main metric 0 src invalid IP static
route unicast 10.5.0.0/16 via 192.0.2.9 dev eth0 table main metric 200 src invalid IP static
route unreachable 10.6.0.0/16 via invalid IP dev  table 100 metric 0 src invalid IP static
route unicast fd00:2::/32 via 2001:db8::2 dev  table main metric 0 src invalid IP static
route unicast 10.8.0.0/16 via 192.0.2.8 dev  table vrf red metric 0 src invalid IP static
`, readtest.Network(g))
	got := ""
	for _, p := range g.Protocols {
		got += fmt.Sprint(p.Name, " ", p.Instance, ":")
		for _, list := range [][]model.Carried{p.Networks, p.Interfaces, p.Redistribute} {
			for _, c := range list {
				if c.Network.IsValid() {
					got += " " + c.Network.String()
				} else {
					got += " " + c.Name
				}
			}
		}
		for _, n := range p.Neighbors {
			got += " > " + n.Addr.String()
		}
		got += fmt.Sprintln(" passive", p.Passive)
	}
	assert.Equal(t, `ospf : 10.1.0.0/16 gre1 static passive [eth0]
bgp 64512: 10.1.0.0/16 connected > 10.255.0.2 passive []
rip : eth1 passive []
`, got)
	for n := range g.Files[0].Lines() {
		for _, secret := range []string{"hushhush", "sesame", "squeamish"} {
			assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(n+1)), secret)
		}
	}
}

func TestMistakes(t *testing.T) {
	g := readtest.Read(
		frr.Format,
		"frr.conf",
		"ip route nowhere 192.0.2.1\nip route 10.0.0.0 255.0.255.0 192.0.2.1\ninterface eth0\n ip address x\npbr-map P seq 1\n"+
			"fluxcapacitor on\n",
		nil,
	)
	assert.Equal(
		t,
		[]string{`frr.conf:1: "192.0.2.1" is not a mask`, `frr.conf:2: "255.0.255.0" is not a mask`,
			`frr.conf:4: "x" is not an address with its network`,
			`frr.conf:6: "fluxcapacitor" is not a known statement`}[1:],
		readtest.Unread(g)[1:],
	)
	require.Empty(t, g.Routes)
}

func FuzzFRR(f *testing.F) {
	f.Add(conf)
	f.Add("router ospf\n no passive-interface x\ninterface\nip route 1.2.3.4 0.0.0.0 Null0 table\nvrf\n ip route 0/0\n")
	f.Fuzz(func(t *testing.T, text string) { readtest.Network(readtest.Read(frr.Format, "frr.conf", text, nil)) })
}

// TestWhereAProtocolIsPassive: on named interfaces, on all but named ones, and taken back again.
func TestWhereAProtocolIsPassive(t *testing.T) {
	for name, c := range map[string]struct{ lines, want string }{
		"one":              {"router ospf\n passive-interface eth0\n", "[eth0] []"},
		"all but one":      {"router ospf\n passive-interface default\n no passive-interface gre1\n", "[default] [gre1]"},
		"taken back":       {"router ospf\n passive-interface eth0\n no passive-interface eth0\n", "[] [eth0]"},
		"by the interface": {"interface eth0\n ip ospf passive\n!\nrouter ospf\n", "[eth0] []"},
		"all but one, the other way": {"interface gre1\n no ip ospf passive\n!\nrouter ospf\n passive-interface default\n",
			"[default] [gre1]"},
	} {
		g := readtest.Read(frr.Format, "frr.conf", "frr version 8.4\n"+c.lines, nil)
		require.Len(t, g.Protocols, 1, name)
		assert.Equal(t, c.want, fmt.Sprint(g.Protocols[0].Passive, g.Protocols[0].Active), name)
	}
}

// TestRecognisedWithoutTheUsualHeader: files of the single daemons, and parts of them.
func TestRecognisedWithoutTheUsualHeader(t *testing.T) {
	for text, want := range map[string]bool{
		"interface eth0\n ip address 192.0.2.1/24\n":                true,
		"interface eth0 vrf red\n ipv6 address 2001:db8::1/64\n!\n": true,
		"router bgp 64512\n neighbor 192.0.2.9 remote-as 64513\n":   true,
		"hostname r1\n!\ninterface r1-eth0\n ip ospf area 0\n!\n":   true,
		"router ospf\n": true,
		"ip prefix-list P seq 5 permit 10.0.0.0/8\n":                        true,
		"ip route 10.0.0.0/8 192.0.2.9\n":                                   true,
		"debug ospf6 lsa unknown\n!\ninterface r2-eth0\n":                   true,
		"auto eth0\niface eth0 inet static\n address 192.0.2.1/24\n":        false,
		"2: eth0: <UP> mtu 1500\n    inet 192.0.2.1/24 scope global eth0\n": false,
		"[Match]\nName=eth0\n[Network]\nAddress=192.0.2.1/24\n":             false,
		"table ip f {\n chain c {\n }\n}\n":                                 false,
		"The interface eth0 has the ip address 192.0.2.1\n":                 false,
		"interface eth0\nis down\n":                                         false,
		"conn a\n\tleft=192.0.2.1\nhostname x\n":                            false,
	} {
		score, why := frr.Format.Looks(source.NewFile("x", []byte(text)))
		assert.Equal(t, want, score >= 30, "%q: %d %s", text, score, why)
	}
}

func TestShortWordsAndRoutingByPolicy(t *testing.T) {
	g := readtest.Read(
		frr.Format,
		"frr.conf",
		"frr version 8.4\nint eth0\n ip add 10.0.0.1/24\n pbr-policy OUT\n!\nrout ospf\n netw 10.0.0.0/24 area 0\n passive eth0\n!\n"+
			"ip route 10.9.0.0/16 10.0.0.2\nip route 10.8.0.0/16 10.0.0.2\nno ip route 10.9.0.0/16 10.0.0.2\npbr-map OUT seq 5\n"+
			" match src-ip 10.0.0.0/24\n set nexthop 10.0.0.9\n!\npbr-map OUT seq 9\n match dscp ef\n set vrf blue\n",
		nil,
	)
	assert.Equal(t, "interface eth0  [10.0.0.1/24] down false dynamic false\n"+
		"route unicast 10.8.0.0/16 via 10.0.0.2 dev  table main metric 0 src invalid IP static\n"+
		"route unicast 0.0.0.0/0 via 10.0.0.9 dev  table OUT 5 metric 0 src invalid IP static\n"+
		"rule 305 10.0.0.0/24 > any in on eth0 -> lookup OUT 5 unsure false\n"+
		"rule 309 any IPv4 in on eth0; any IPv6 in on eth0 -> lookup vrf blue unsure true\n", readtest.Network(g))
	assert.Equal(t, []string{"frr.conf:18: this part of routing by policy is not read"}, readtest.Unread(g))
	assert.Equal(t, []string{"eth0"}, g.Protocols[0].Passive)
}
