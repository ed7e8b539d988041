package yang_test

import (
	"bytes"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/export"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/read/formats"
	"toril/read/readtest"
	"toril/read/yang"
	"toril/source"
)

func reads(t *testing.T, format, text string) *model.Gateway {
	for _, f := range formats.All() {
		if f.Name == format {
			return readtest.Read(f, "x", text, nil)
		}
	}
	t.Fatal(format)
	return nil
}

// notRead are the statements that were not read, without what a file says that it leaves out.
func notRead(g *model.Gateway) []string {
	return slices.DeleteFunc(readtest.Unread(g), func(s string) bool { return strings.Contains(s, "the file says that it leaves out ") })
}

func written(t *testing.T, g *model.Gateway) (string, string) {
	var out bytes.Buffer
	lacks, err := yang.Write(&out, g, false)
	require.NoError(t, err)
	assert.True(t, json.Valid(out.Bytes()))
	return out.String(), strings.Join(lacks, "\n")
}

// TestWhatTheModelsCannotSay is listed, and what they can is written all the same.
func TestWhatTheModelsCannotSay(t *testing.T) {
	out, lacks := written(t, reads(t, "swanctl.conf", `connections {
  a {
    version = 0
    remote_addrs = 192.0.2.9
    proposals = aes256-sha256-prfsha512-modp2048-ecp256, aes128-sha1-modp2048
    dpd_delay = 30s
    local {
      auth = psk
      id = a_1.example
    }
    remote {
      auth = psk
      id = *.example
    }
    children {
      k {
        local_ts = 10.1.0.0/16, 10.2.0.0/16[tcp/443]
        remote_ts = 10.3.0.0-10.3.0.9, 10.4.0.0/16
        esp_proposals = aes256gcm16-modp2048
        rekey_time = 30m
      }
      l {
        local_ts = 10.1.0.0/16
        remote_ts = 10.5.0.0/16
        esp_proposals = aes256gcm16-modp2048
        rekey_time = 40m
        mode = transport
        start_action = start
      }
      p {
        local_ts = 10.1.0.0/16
        remote_ts = 10.6.0.0/16
        mode = pass
        start_action = trap
      }
    }
  }
  old {
    version = 1
    remote_addrs = 192.0.2.8
    children {
      x {
      }
    }
  }
}
`))
	for _, want := range []string{
		"connection a: that it takes IKEv1 too", "connection old: IKEv1", "of its proposals, which algorithms of the 2 belong together",
		"more than one group of the IKE SA", "the PRF HMAC-SHA2-512", "connection a: liveness check", "a-peer: the identity *.example",
		"networks that are none of one length (10.1.0.0/16 to 10.3.0.0-10.3.0.9)", "another lifetime of child l", "another start of " +
			"child l",
		"that an end of the tunnel may be at any address",
	} {
		assert.Contains(t, lacks, want)
	}
	for _, want := range []string{`"name": "k"`, `"name": "k~2"`, `"fqdn-string": "a_1.example"`, `"id-null": [`, `"local": "0.0.0.0"`,
		`"action": "bypass"`, `"mode": "transport"`, `"inner-protocol": 6`, `"start": 443`} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, `"name": "old"`)
	g := readtest.Read(yang.Format, "x", out, nil)
	require.Len(t, g.Connections, 1)
	require.Len(t, g.Connections[0].Children, 3)
	assert.Equal(
		t,
		"10.1.0.0/16, 10.2.0.0/16 tcp 443",
		g.Connections[0].Children[0].Local.Value.String(),
		"two entries are one child again",
	)
	assert.True(t, g.Connections[0].LocalAddrs.Value.Any())
}

// TestAccessListsThereAndBack: rules that entries can say come back as the same packets; the others are listed.
func TestAccessListsThereAndBack(t *testing.T) {
	g := reads(t, "nftables", `table inet f {
  chain c {
    ip saddr { 10.1.0.0/16, 10.2.0.0/24 } tcp dport { 80, 443, 8000-8010 } accept
    ip6 daddr 2001:db8::/32 udp sport 53 log drop
    icmp type { echo-request, destination-unreachable } reject
    meta l4proto esp accept
    ip daddr 10.9.0.0/16 drop
    ct state established accept
    ip saddr != 10.0.0.0/8 meta mark 7 accept
    iifname "lan" tcp dport 22 accept
    iifname "gone" tcp dport 23 accept
    accept
  }
}
`)
	g.InterfaceOf("lan", source.Pos{})
	out, lacks := written(t, g)
	for _, want := range []string{"rule 6 (any IPv4 established", "rule 7 (", "rule 9 ("} {
		assert.Contains(t, lacks, want)
	}
	assert.NotContains(t, lacks, "rule 8 (")
	back := readtest.Read(yang.Format, "x", out, nil)
	require.Empty(t, notRead(back))
	filter := func(g *model.Gateway, verb model.Verb) packet.Set {
		set := packet.None()
		for _, c := range g.Chains {
			for i, r := range c.Rules {
				if r.Verb == verb && (g == back || i != 5 && i != 6 && i != 8) {
					set = set.Or(r.When)
				}
			}
		}
		return set
	}
	for _, verb := range []model.Verb{model.Accept, model.Drop, model.Reject} {
		assert.True(t, filter(g, verb).Equal(filter(back, verb)), verb)
	}
}

// TestTranslationsThereAndBack: of one to one, and of destinations of one address.
func TestTranslationsThereAndBack(t *testing.T) {
	g := reads(t, "nftables", `table ip n {
  chain pre {
    type nat hook prerouting priority dstnat;
    ip daddr 192.0.2.9 tcp dport 443 dnat to 10.1.0.9:8443
    ip daddr 192.0.2.0/24 tcp dport 80-90 dnat to 10.1.0.9
  }
  chain post {
    type nat hook postrouting priority srcnat;
    ip saddr 10.1.0.7 snat to 192.0.2.7
    oifname "wan" masquerade
    snat ip prefix to ip saddr map { 10.3.0.0/24 : 192.0.3.0/24 }
  }
}
`)
	out, lacks := written(t, g)
	assert.Contains(t, lacks, "address translation pre: rule 2")
	assert.Contains(t, lacks, "address translation post: rule 2 (masquerade")
	back := readtest.Read(yang.Format, "x", out, nil)
	rules := readtest.Rules(back)
	assert.Contains(t, rules, "10.1.0.7 > any -> source NAT 192.0.2.7/32")
	assert.Contains(t, rules, "10.3.0.0/24 > any -> source NAT 192.0.3.0/24")
	assert.Contains(t, rules, "any > 192.0.2.9 tcp port 443 -> destination NAT 10.1.0.9/32")
	for _, c := range back.Chains {
		for _, r := range c.Rules {
			if r.Verb == model.DestinationNAT {
				port, ok := r.To.Ports.Single()
				assert.True(t, ok)
				assert.EqualValues(t, 8443, port)
			}
		}
	}
}

// TestRoutesAndInterfaces: kinds, families, what is switched off; what has no place is listed.
func TestRoutesAndInterfaces(t *testing.T) {
	g := &model.Gateway{}
	lan := g.InterfaceOf("lan", source.Pos{})
	lan.AddAddress(netip.MustParsePrefix("10.1.0.1/16"))
	lan.AddAddress(netip.MustParsePrefix("2001:db8::1/64"))
	g.InterfaceOf("off", source.Pos{}).Down = true
	g.InterfaceOf("tun", source.Pos{}).Kind = "gre"
	g.InterfaceOf("lease", source.Pos{}).Dynamic = true
	for _, r := range []model.Route{
		{To: netip.MustParsePrefix("10.9.0.0/16"), Dev: "lan"}, {To: netip.MustParsePrefix("10.9.0.0/16"), Dev: "off"},
		{To: netip.MustParsePrefix("10.8.0.0/16"), Kind: "blackhole"}, {To: netip.MustParsePrefix("2001:db8:1::/48"), Dev: "lan"},
		{To: netip.MustParsePrefix("10.7.0.0/16"), Dev: "gone"}, {To: netip.MustParsePrefix("10.6.0.0/16"), Dev: "lan", Table: "5"},
		{To: netip.MustParsePrefix("10.5.0.0/16"), Via: netip.MustParseAddr("10.1.0.9"), Dev: "lan", Metric: 5},
	} {
		g.AddRoute(&r)
	}
	g.Protocols = append(g.Protocols, &model.RoutingProtocol{Name: "ospf"})
	g.RouteRules = append(g.RouteRules, &model.RouteRule{})
	out, lacks := written(t, g)
	for _, want := range []string{"interface tun: what kind of tunnel", "interface lease: that it gets", "route to 10.9.0.0/16: a " +
		"second one",
		"route to 10.7.0.0/16: it has no next hop", "route to 10.6.0.0/16: its table", "route to 10.5.0.0/16: its table", "routing " +
			"protocol ospf",
		"rules that choose routing tables"} {
		assert.Contains(t, lacks, want)
	}
	back := readtest.Read(yang.Format, "x", out, nil)
	assert.Empty(t, notRead(back))
	require.Len(t, back.Routes, 4)
	assert.Equal(
		t,
		"[10.1.0.1/16 2001:db8::1/64]",
		strings.Trim(strings.Join(strings.Fields(strings.Split(readtest.Network(back), "lan ")[1]), " "),
			" ")[:len("[10.1.0.1/16 2001:db8::1/64]")],
	)
	assert.True(t, back.Interfaces[1].Down)
	assert.Equal(t, "tunnel", back.Interfaces[2].Kind)
}

// TestWriters: every form that a gateway is exported in can be read.
func TestWriters(t *testing.T) {
	for _, w := range export.Writers() {
		for _, g := range gateways(t) {
			var out bytes.Buffer
			_, err := w.Write(&out, g)
			require.NoError(t, err)
			v := read.Recognise(formats.All(), source.NewFile(g.Name, out.Bytes()))
			require.NotNil(t, v.Format, "%s of %s", w.Name, g.Name)
			assert.Equal(t, "yang", v.Format.Name)
		}
		assert.NotEmpty(t, w.Title)
	}
}
