package iproute_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read"
	"toril/read/iproute"
	"toril/read/readtest"
	"toril/source"
)

const asText = `1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 qdisc noqueue state UNKNOWN group default qlen 1000
    link/loopback 00:00:00:00:00:00 brd 00:00:00:00:00:00
    inet 127.0.0.1/8 scope host lo
       valid_lft forever preferred_lft forever
2: eth0: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc noqueue state UP group default qlen 1000
    inet 192.0.2.1/24 brd 192.0.2.255 scope global dynamic eth0
    inet6 2001:db8::1/64 scope global
3: ipsec0@eth0: <NOARP,UP,LOWER_UP> mtu 1500 qdisc noqueue state UNKNOWN
    link/none promiscuity 0
    xfrm if_id 0x2a addrgenmode eui64
4: vti1@NONE: <POINTOPOINT,NOARP> mtu 1480 qdisc noop state DOWN
    vti remote 198.51.100.7 local 192.0.2.1 ikey 0.0.0.42 okey 0.0.0.43
default via 192.0.2.254 dev eth0
10.2.0.0/16 dev ipsec0 scope link metric 50
blackhole 10.3.0.0/16
10.4.0.0/16 via 10.1.0.9 dev eth0 table 220 proto bird
10.5.0.0/16 proto static src 10.1.0.1
	nexthop via 10.1.0.2 dev eth0 weight 1
	nexthop via 10.1.0.3 dev eth0 weight 2
local 192.0.2.1 dev eth0 table local proto kernel scope host src 192.0.2.1
broadcast 192.0.2.255 dev eth0 table local proto kernel scope link src 192.0.2.1
default via 2001:db8::2 dev eth0 metric 1024 pref medium
0:	from all lookup local
218:	from all iif eth1 [detached] blackhole
219:	from all fwmark 0xff000000/0xff000000 lookup 100
220:	not from 10.1.0.0/16 to 10.4.0.0/16 lookup 220
221:	from all tos 0x10 lookup 7
32766:	from all lookup main
`

const want = `interface lo loopback [127.0.0.1/8] down false dynamic false
interface eth0  [192.0.2.1/24 2001:db8::1/64] down false dynamic true
interface ipsec0 xfrm [] if_id 42 key 0 invalid IP > invalid IP on eth0 down false dynamic false
interface vti1 vti [] if_id 0 key 43 192.0.2.1 > 198.51.100.7 down true dynamic false
route unicast 0.0.0.0/0 via 192.0.2.254 dev eth0 table main metric 0 src invalid IP static
route unicast 10.2.0.0/16 via invalid IP dev ipsec0 table main metric 50 src invalid IP static
route blackhole 10.3.0.0/16 via invalid IP dev  table main metric 0 src invalid IP static
route unicast 10.4.0.0/16 via 10.1.0.9 dev eth0 table 220 metric 0 src invalid IP bird
route unicast 10.5.0.0/16 via 10.1.0.2 dev eth0 table main metric 0 src 10.1.0.1 static
route unicast 10.5.0.0/16 via 10.1.0.3 dev eth0 table main metric 0 src 10.1.0.1 static
route local 192.0.2.1/32 via invalid IP dev eth0 table local metric 0 src 192.0.2.1 connected
route unicast ::/0 via 2001:db8::2 dev eth0 table main metric 1024 src invalid IP static
rule 0 all packets -> lookup local unsure false
rule 218 any IPv4 in on eth1; any IPv6 in on eth1 -> blackhole  unsure false
rule 219 any IPv4 mark 0xff000000-0xffffffff; any IPv6 mark 0xff000000-0xffffffff -> lookup 100 unsure false
rule 220 0.0.0.0-10.0.255.255, 10.2.0.0-255.255.255.255 > any; 10.1.0.0/16 > 0.0.0.0-10.3.255.255, 10.5.0.0-255.255.255.255; any IPv6 -> lookup 220 unsure false
rule 221 all packets -> lookup 7 unsure true
rule 32766 all packets -> lookup main unsure false
`

func TestText(t *testing.T) {
	g := readtest.Read(iproute.Text, "net.txt", asText, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, want, readtest.Network(g))
}

func TestJSON(t *testing.T) {
	g := readtest.ReadAll([]*read.Format{iproute.JSON}, map[string]string{
		"addr.json": `[{"ifindex":1,"ifname":"lo","flags":["LOOPBACK","UP","LOWER_UP"],"link_type":"loopback","addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8}]},
{"ifname":"eth0","flags":["UP"],"link_type":"ether","addr_info":[{"family":"inet","local":"192.0.2.1","prefixlen":24,"dynamic":true},{"family":"inet6","local":"2001:db8::1","prefixlen":64}]},
{"ifname":"ipsec0","link":"eth0","flags":["NOARP","UP"],"linkinfo":{"info_kind":"xfrm","info_data":{"if_id":"0x2a"}},"addr_info":[]},
{"ifname":"vti1","flags":["NOARP"],"linkinfo":{"info_kind":"vti","info_data":{"remote":"198.51.100.7","local":"192.0.2.1","ikey":"0.0.0.42","okey":"0.0.0.43"}},"addr_info":[]}]`,
		"route.json": `[{"dst":"default","gateway":"192.0.2.254","dev":"eth0","flags":[]},{"dst":"10.2.0.0/16","dev":"ipsec0","scope":"link","metric":50},{"type":"blackhole","dst":"10.3.0.0/16"},
{"dst":"10.4.0.0/16","gateway":"10.1.0.9","dev":"eth0","table":"220","protocol":"bird"},{"dst":"10.5.0.0/16","protocol":"static","prefsrc":"10.1.0.1","nexthops":[{"gateway":"10.1.0.2","dev":"eth0"},{"gateway":"10.1.0.3","dev":"eth0"}]},
{"type":"local","dst":"192.0.2.1","dev":"eth0","table":"local","protocol":"kernel","prefsrc":"192.0.2.1"},{"type":"broadcast","dst":"192.0.2.255","dev":"eth0","table":"local"},{"dst":"default","gateway":"2001:db8::2","dev":"eth0","metric":1024}]`,
		"rule.json": `[{"priority":0,"src":"all","table":"local"},{"priority":218,"src":"all","iif":"eth1","iif_detached":null,"action":"blackhole"},{"priority":219,"src":"all","fwmark":"0xff000000","fwmask":"0xff000000","table":"100"},
{"not":null,"priority":220,"src":"10.1.0.0","srclen":16,"dst":"10.4.0.0","dstlen":16,"table":"220"},{"priority":221,"src":"all","tos":"0x10","table":"7"},{"priority":32766,"src":"all","table":"main"}]`,
	})
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, want, readtest.Network(g), "the same as the text")
}

func TestMistakes(t *testing.T) {
	g := readtest.Read(
		iproute.Text,
		"net.txt",
		"2: eth0: <UP> mtu 1\n    inet nonsense scope global\nmeow purr\n10.0.0.0/8 via nowhere\n    orphan line\n",
		nil,
	)
	assert.Equal(
		t,
		[]string{
			`net.txt:2: "nonsense" is not an address`,
			`net.txt:3: it is neither an interface nor a route nor a rule: "meow" is not a network`,
			`net.txt:4: "nowhere" is not an address`,
			"net.txt:5: it belongs to nothing before it",
		},
		readtest.Unread(g),
	)
	g = readtest.Read(
		iproute.JSON,
		"net.json",
		"[{\"ifname\":\"a\",\"flags\":[],\"addr_info\":[{\"local\":\"x\",\"prefixlen\":8}]},\n{\"colour\":1},\n"+
			"{\"dst\":\"x\",\"dev\":\"y\"}, 5, {",
		nil,
	)
	assert.Equal(
		t,
		[]string{
			`net.json:1:2: "x" is not an address`,
			"net.json:2:1: it is neither an interface nor a route nor a rule",
			`net.json:3:1: "x" is not a network`,
			"net.json:3:24: an object was expected: json: cannot unmarshal number into Go value of type map[string]json.RawMessage",
		},
		readtest.Unread(g),
	)
	assert.Equal(t, []string{"net.json:3:26: the rest is not JSON: unexpected EOF"}, readtest.Problems(g))
}

func TestRecognition(t *testing.T) {
	for text, score := range map[string]int{
		"default via 192.0.2.1 dev eth0\n10.0.0.0/8 dev eth1 proto kernel\n": 95, "# x\ndefault dev ppp0\n": 60,
		"0:\tfrom all lookup local\n":           80,
		"1: lo: <LOOPBACK,UP> mtu 65536\n":      95,
		"# x\n1: lo: <LOOPBACK,UP> mtu 65536\n": 85, "some prose\nabout nothing\n": 0, "conn a\n": 0,
	} {
		got, _ := iproute.Text.Looks(source.NewFile("x", []byte(text)))
		assert.Equal(t, score, got, text)
	}
}

func FuzzText(f *testing.F) {
	f.Add(asText)
	f.Fuzz(func(t *testing.T, text string) { readtest.Network(readtest.Read(iproute.Text, "net.txt", text, nil)) })
}

func FuzzIPJSON(f *testing.F) {
	f.Add(
		`[{"ifname":"eth0","flags":["UP"],"addr_info":[{"family":"inet","local":"192.0.2.1","prefixlen":24}]},{"priority":1,"src":"all","fwmark":"0x1"},{"dst":"default","via":{"host":"fe80::1"}}]`,
	)
	f.Fuzz(func(t *testing.T, text string) { readtest.Network(readtest.Read(iproute.JSON, "net.json", text, nil)) })
}
