package netplan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/netplan"
	"toril/read/readtest"
)

const plan = `network:
  version: 2
  renderer: networkd
  ethernets:
    eth0:
      addresses:
        - 192.0.2.1/24
        - "2001:db8::1/64":
            label: x
      gateway4: 192.0.2.254
      nameservers: {addresses: [192.0.2.53]}
      routes:
        - to: 10.9.0.0/16
          via: 192.0.2.9
          metric: 50
          table: 100
        - {to: 10.2.0.0/16, type: blackhole}
        - to: default
          via: 2001:db8::2
      routing-policy:
        - from: 10.1.0.0/16
          to: 10.4.0.0/16
          mark: 5
          table: 220
          priority: 220
    eth1:
      dhcp4: true
  vlans:
    lan:
      id: 7
      link: eth1
      addresses: [10.1.0.1/16]
  tunnels:
    gre1:
      mode: gre
      local: 192.0.2.1
      remote: 198.51.100.7
      key: 0.0.0.43
`

func TestPlan(t *testing.T) {
	g := readtest.Read(netplan.Format, "01-net.yaml", plan, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Empty(t, readtest.Problems(g))
	assert.Equal(t, `interface eth0  [192.0.2.1/24 2001:db8::1/64] down false dynamic false
interface eth1  [] down false dynamic true
interface lan vlan [10.1.0.1/16] on eth1 down false dynamic false
interface gre1 gre [] if_id 0 key 43 192.0.2.1 > 198.51.100.7 down false dynamic false
route unicast 0.0.0.0/0 via 192.0.2.254 dev eth0 table main metric 0 src invalid IP static
route unicast 10.9.0.0/16 via 192.0.2.9 dev eth0 table 100 metric 50 src invalid IP static
route blackhole 10.2.0.0/16 via invalid IP dev  table main metric 0 src invalid IP static
route unicast ::/0 via 2001:db8::2 dev eth0 table main metric 0 src invalid IP static
rule 220 10.1.0.0/16 > 10.4.0.0/16 mark 0x5 -> lookup 220 unsure false
`, readtest.Network(g))
	assert.Equal(t, 13, g.Routes[1].At.Line)
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"network:\n  ethernets:\n    eth0:\n      addresses: [nowhere]\n":         `a.yaml:4: "nowhere" is not an address with its network`,
		"network:\n  ethernets:\n    eth0:\n      routes:\n        - to: there\n": `a.yaml:5: "there" is not a network`,
		"network:\n  gadgets:\n    a: 1\n":                                        `a.yaml:2: "gadgets" is not a key of netplan`,
		"colour: green\n":                                                         `a.yaml:1: "colour" is not a key of netplan`,
		"network:\n  ethernets: [\n":                                              "a.yaml:",
		"network:\n  a: &x [1]\n  b: *x\n":                                        "a.yaml:3: aliases are not read",
		"network: " + strings.Repeat("[", 100_000):                                "nests more than 64 deep",
		"network:\n" + strings.Repeat(" ", 2000) + "a: 1\n":                       "nests more than 64 deep",
		"network:\n  a: " + strings.Repeat("x", 5<<20) + "\n":                     "larger than 1 MiB",
	} {
		g := readtest.Read(netplan.Format, "a.yaml", text, nil)
		assert.Contains(t, strings.Join(append(readtest.Unread(g), readtest.Problems(g)...), "\n"), want)
	}
}

func FuzzPlan(f *testing.F) {
	f.Add(plan)
	f.Add("network: {ethernets: {a: {addresses: [1.2.3.4/5], routes: [{to: 0/0}]}}}")
	f.Fuzz(func(t *testing.T, text string) { readtest.Network(readtest.Read(netplan.Format, "a.yaml", text, nil)) })
}

func TestNamesTablesAndKeysTwice(t *testing.T) {
	g := readtest.Read(
		netplan.Format,
		"x.yaml",
		"network:\n  ethernets:\n    lan:\n      match: {name: enp3s0}\n      addresses: [10.0.0.1/24]\n    wan:\n"+
			"      match: {macaddress: aa:bb:cc:dd:ee:ff}\n      set-name: wan0\n"+
			"      addresses: [192.0.2.1/24]\n  vrfs:\n    blue:\n      table: 100\n      routes:\n"+
			"        - {to: default, via: 10.0.0.2}\n        - {to: 10.9.0.0/16, via: 10.0.0.3, table: 7}\n"+
			"  ethernets:\n    lan:\n      match: {name: enp3s0}\n      addresses: [10.0.1.1/24]\n",
		nil,
	)
	assert.Empty(t, readtest.Problems(g))
	assert.Equal(
		t,
		"interface enp3s0  [10.0.0.1/24 10.0.1.1/24] down false dynamic false\n"+
			"interface wan0  [192.0.2.1/24] down false dynamic false\ninterface blue vrf [] down false dynamic false\n"+
			"route unicast 0.0.0.0/0 via 10.0.0.2 dev blue table 100 metric 0 src invalid IP static\n"+
			"route unicast 10.9.0.0/16 via 10.0.0.3 dev blue table 7 metric 0 src invalid IP static\n",
		readtest.Network(g),
	)
}
