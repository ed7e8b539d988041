package networkd_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read"
	"toril/read/networkd"
	"toril/read/readtest"
)

func TestUnits(t *testing.T) {
	g := readtest.ReadAll([]*read.Format{networkd.Format}, map[string]string{
		"10-eth0.network": `[Match]
Name=eth0

[Network]
Address=192.0.2.1/24
Address=2001:db8::1/64
Gateway=192.0.2.254
DHCP=no

[Address]
Address=192.0.2.2/24

[Route]
Destination=10.9.0.0/16
Gateway=192.0.2.9
Metric=50

[Route]
Destination=10.2.0.0/16
Type=blackhole
Table=100

[RoutingPolicyRule]
From=10.1.0.0/16
To=10.4.0.0/16
FirewallMark=0x5
IncomingInterface=eth1
Table=220
Priority=220
`,
		"20-ipsec0.netdev":  "[NetDev]\nName=ipsec0\nKind=xfrm\n\n[Xfrm]\nInterfaceId=42\n",
		"21-vti.netdev":     "[NetDev]\nName=vti1\nKind=vti\n\n[Tunnel]\nLocal=192.0.2.1\nRemote=198.51.100.7\nKey=43\n",
		"30-ipsec0.network": "[Match]\nName=ipsec0\n\n[Network]\nDHCP=yes\n\n[Route]\nGateway=_dhcp4\nDestination=10.3.0.0/16\n",
	})
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `interface eth0  [192.0.2.1/24 2001:db8::1/64 192.0.2.2/24] down false dynamic false
interface ipsec0 xfrm [] if_id 42 key 0 invalid IP > invalid IP down false dynamic true
interface vti1 vti [] if_id 0 key 43 192.0.2.1 > 198.51.100.7 down false dynamic false
route unicast 0.0.0.0/0 via 192.0.2.254 dev eth0 table main metric 0 src invalid IP static
route unicast 10.9.0.0/16 via 192.0.2.9 dev eth0 table main metric 50 src invalid IP static
route blackhole 10.2.0.0/16 via invalid IP dev  table 100 metric 0 src invalid IP static
route unicast 10.3.0.0/16 via invalid IP dev ipsec0 table main metric 0 src invalid IP static
rule 220 10.1.0.0/16 > 10.4.0.0/16 in on eth1 mark 0x5 -> lookup 220 unsure false
`, readtest.Network(g))
}

func TestMistakes(t *testing.T) {
	g := readtest.Read(
		networkd.Format,
		"a.network",
		"Name=lost\n[Match]\nName=eth0\n[Network]\nAddress=nowhere\n[Route]\nDestination=there\n[Route]\nGateway=here\n"+
			"[RoutingPolicyRule]\nFrom=x\nUser=root\n[Network]\nno equals sign\n",
		nil,
	)
	assert.Equal(
		t,
		[]string{
			"a.network:1: it is neither a section nor a setting of one",
			"a.network:14: it is neither a section nor a setting of one",
			`a.network:5: "nowhere" is not an address`,
			`a.network:6: "there" is not a network`,
			`a.network:8: "here" is not an address`,
			`a.network:11: "x" is not a network`,
		},
		readtest.Unread(g),
	)
	assert.False(t, g.RouteRules[0].Doubts.Certain())
	g = readtest.Read(networkd.Format, "b.network", "[Match]\nMACAddress=02:00:00:00:00:01\n[Network]\nAddress=10.0.0.1/8\n", nil)
	assert.Equal(t, []string{"b.network:2: which interface this matches, the file does not say"}, readtest.Unread(g))
}

func FuzzUnits(f *testing.F) {
	f.Add("[Match]\nName=eth0\n[Network]\nAddress=192.0.2.1/24\n[Route]\nGateway=::1\n[RoutingPolicyRule]\nFirewallMark=1/0\n")
	f.Add("[NetDev]\nName=a\nKind=xfrm\n[Xfrm]\nInterfaceId=-1\n[Tunnel]\nLocal=any\n")
	f.Fuzz(func(t *testing.T, text string) {
		readtest.Network(readtest.Read(networkd.Format, "a.network", text, nil))
	})
}

func TestMatchedByOtherThings(t *testing.T) {
	g := readtest.Read(networkd.Format, "x.network", "[Match]\nMACAddress=aa:bb:cc:dd:ee:ff\n[Network]\nAddress=10.0.0.1/24\n", nil)
	assert.Equal(t, "interface MACAddress=aa:bb:cc:dd:ee:ff  [10.0.0.1/24] down false dynamic false\n", readtest.Network(g))
	assert.Equal(t, []string{"x.network:2: which interface this matches, the file does not say"}, readtest.Unread(g))
	g = readtest.Read(networkd.Format, "x.network", "[Match]\nName=eth0 eth1\n[Network]\nAddress=10.0.0.1/24\n", nil)
	assert.Len(t, g.Interfaces, 2)
}
