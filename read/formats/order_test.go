package formats_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/read"
	"toril/read/formats"
	"toril/read/readtest"
)

// TestWhatAFileSaysDoesNotDependOnTheOrder: a reader sees its file alone; what depends on others is found out when all are read.
func TestWhatAFileSaysDoesNotDependOnTheOrder(t *testing.T) {
	for name, files := range map[string]map[string]string{
		"which end is this one": {
			"ipsec.conf": "conn a\n\tleft=198.51.100.7\n\tright=192.0.2.1\n\tleftsubnet=10.2.0.0/16\n\trightsubnet=10.1.0.0/16\n" +
				"\tauto=start\n\tkeyexchange=ikev2\n\tmargintime=9m\n",
			"addr.txt": "2: wan: <BROADCAST,UP> mtu 1500 state UP\n    inet 192.0.2.1/24 scope global wan\n",
		},
		"the replay window": {
			"swanctl.conf":    "connections {\n a {\n  remote_addrs = 192.0.2.1\n  children {\n   n {\n   }\n  }\n }\n}\n",
			"strongswan.conf": "charon {\n  replay_window = 128\n  plugins {\n  }\n}\n",
		},
		"sets of addresses": {
			"rules.v4": "*filter\n:INPUT DROP [0:0]\n-A INPUT -m set ! --match-set peers src -j ACCEPT\n" +
				"-A INPUT -m set --match-set gone dst -j DROP\n" +
				"COMMIT\n",
			"ipset.txt": "create peers hash:ip family inet\nadd peers 192.0.2.1\nadd peers 192.0.2.9\n",
		},
		"an interface of two files": {
			"addr.txt":   "2: wan: <BROADCAST,UP> mtu 1500 state UP\n    inet 192.0.2.1/24 scope global wan\n",
			"interfaces": "auto wan\niface wan inet static\n  address 192.0.2.1/24\n  gateway 192.0.2.254\n",
			"frr.conf": "frr version 8.4\ninterface wan\n ip address 192.0.2.1/24\n ip ospf area 0\n!\nrouter ospf\n" +
				" network 10.0.0.0/8 area 0\n!\n",
		},
	} {
		forward := formats.All()
		backward := slices.Clone(forward)
		for i, f := range backward {
			turned := *f
			turned.Order = -f.Order
			backward[i] = &turned
		}
		told := func(all []*read.Format) (out []string) {
			g := readtest.ReadAll(all, files)
			out = append(out, readtest.Everything(g), readtest.Rules(g))
			for _, i := range g.Interfaces {
				for _, a := range i.Addresses {
					out = append(out, i.Name+" "+a.String())
				}
			}
			for _, p := range g.Protocols {
				out = append(out, p.Name)
			}
			for _, d := range g.Definitions {
				if d.Kind == "set" && d.Missing {
					out = append(out, "missing "+d.Name)
				}
			}
			rest := slices.Concat(readtest.Unread(g), readtest.Problems(g))
			slices.Sort(out[2:])
			slices.Sort(rest)
			return append(out, rest...)
		}
		got := told(forward)
		assert.Equal(t, got, told(backward), name)
		require.NotEmpty(t, got[0]+got[1]+name)
	}
	g := readtest.ReadAll(formats.All(), map[string]string{
		"rules.v4":  "*filter\n:INPUT DROP [0:0]\n-A INPUT -m set ! --match-set peers src -j ACCEPT\nCOMMIT\n",
		"ipset.txt": "create peers hash:ip family inet\nadd peers 192.0.2.1\n",
	})
	require.Len(t, g.Chains, 1)
	assert.Contains(t, readtest.Rules(g), "0.0.0.0-192.0.2.0, 192.0.2.2-255.255.255.255 > any -> accept")
}

// TestTheSameTableOfTwoFiles: two saved states of one packet filter cannot both hold.
func TestTheSameTableOfTwoFiles(t *testing.T) {
	save := "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 192.0.2.1/32 -j ACCEPT\nCOMMIT\n"
	nft := "table inet f {\n chain c {\n  type filter hook input priority 0; policy drop;\n  ip saddr 192.0.2.1 accept\n }\n}\n"
	for _, files := range []map[string]string{{"a.iptables": save, "b.iptables": save}, {"a.nft": nft, "b.nft": nft}} {
		g := readtest.ReadAll(formats.All(), files)
		require.Len(t, g.Chains, 1)
		assert.Len(t, g.Chains[0].Rules, 1)
		require.Len(t, readtest.Problems(g), 1)
		assert.Contains(t, readtest.Problems(g)[0], "only that one is used")
	}
	twice := "create peers hash:ip family inet\nadd peers 192.0.2.%s\n"
	g := readtest.ReadAll(formats.All(), map[string]string{"a/ipset.txt": twice, "b/ipset.txt": twice})
	assert.Len(t, g.Sets, 1)
	assert.NotEmpty(t, readtest.Problems(g))
}
