package iproute_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/iproute"
	"toril/read/readtest"
)

// TestLines reads single lines, each as ip(8) prints it.
func TestLines(t *testing.T) {
	for line, want := range map[string]string{
		"default via 192.0.2.254 dev eth0 proto dhcp metric 100": "route unicast 0.0.0.0/0 via 192.0.2.254 dev eth0 " +
			"table main metric 100 src invalid IP static",
		"10.1.0.0/24 dev lan proto kernel scope link src 10.1.0.1": "route unicast 10.1.0.0/24 via invalid IP dev lan " +
			"table main metric 0 src 10.1.0.1 connected",
		"10.9.0.1 via 10.1.0.2 dev lan": "route unicast 10.9.0.1/32 via 10.1.0.2 dev lan " +
			"table main metric 0 src invalid IP static",
		"unreachable 10.3.0.0/16 metric 4278198272": "route unreachable 10.3.0.0/16 via invalid IP dev  " +
			"table main metric 4278198272 src invalid IP static",
		"prohibit 10.3.0.0/16 table 7": "route prohibit 10.3.0.0/16 via invalid IP dev  " +
			"table 7 metric 0 src invalid IP static",
		"throw 10.3.0.0/16 table 220": "route throw 10.3.0.0/16 via invalid IP dev  table " +
			"220 metric 0 src invalid IP static",
		"10.2.0.0/16 dev ipsec0 scope link": "route unicast 10.2.0.0/16 via invalid IP dev " +
			"ipsec0 table main metric 0 src invalid IP static",
		"10.2.0.0/16 via 192.0.2.254 dev eth0 table 220 proto static src 10.1.0.1": "route unicast 10.2.0.0/16 via 192.0.2.254 dev " +
			"eth0 table 220 metric 0 src 10.1.0.1 static",
		"2001:db8:2::/48 via fe80::1 dev eth0 metric 1024 pref medium": "route unicast 2001:db8:2::/48 via fe80::1 dev " +
			"eth0 table main metric 1024 src invalid IP static",
		"100:\tfrom 10.1.0.0/25 lookup 7":        "rule 100 10.1.0.0/25 > any -> lookup 7 unsure false",
		"101:\tfrom all to 10.2.0.0/16 lookup 8": "rule 101 any > 10.2.0.0/16 -> lookup 8 unsure false",
		"102:\tfrom all fwmark 0x5 unreachable": "rule 102 any IPv4 mark 0x5; any IPv6 mark 0x5 -> " +
			"unreachable  unsure false",
		"103:\tfrom all ipproto tcp dport 443 lookup 9": "rule 103 any IPv4 tcp port 443; any IPv6 tcp port " +
			"443 -> lookup 9 unsure false",
		"104:\tfrom all iif lan lookup 10": "rule 104 any IPv4 in on lan; any IPv6 in on lan " +
			"-> lookup 10 unsure false",
		"105:\tfrom all uidrange 1000-2000 lookup 11": "rule 105 all packets -> lookup 11 unsure true",
		"32767:\tfrom all lookup default":             "rule 32767 all packets -> lookup default unsure false",
	} {
		g := readtest.Read(iproute.Text, "route.txt", line+"\n", nil)
		got := strings.TrimSpace(readtest.Network(g))
		want = strings.TrimSpace(want)
		assert.Equal(t, want, got, line)
		assert.Empty(t, readtest.Problems(g), line)
	}
}

func TestLinesThatAreNotUnderstoodLoseNothingElse(t *testing.T) {
	g := readtest.Read(
		iproute.Text,
		"route.txt",
		"default via 192.0.2.254 dev eth0\n10.1.0.0/99 dev lan\nsomething else entirely\n10.2.0.0/16 dev tun0\n",
		nil,
	)
	assert.Len(t, g.Routes, 2)
	assert.NotEmpty(t, append(readtest.Unread(g), readtest.Problems(g)...))
}
