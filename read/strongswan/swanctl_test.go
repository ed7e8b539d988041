package strongswan_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/internal/cputime"
	"toril/model"
	"toril/read/readtest"
	"toril/read/strongswan"
)

func swanctl(text string, others map[string]string) *model.Gateway {
	return readtest.Read(strongswan.Swanctl, "swanctl.conf", text, others)
}

// TestAuthorities: those that a configuration names, which may lie anywhere.
func TestAuthorities(t *testing.T) {
	g := swanctl("authorities {\n a {\n  cacert = quay.pem\n }\n b {\n  file = /etc/pki/slip.pem\n  crl_uris = x\n }\n}\n", nil)
	assert.True(t, g.Fetches)
	assert.Equal(t, []string{"quay.pem", "/etc/pki/slip.pem"}, g.Authorized)
	g = ipsecConf("ca a\n\tcacert=/etc/pki/quay.pem\n\tauto=add\nconn b\n\tleft=192.0.2.1\n\tauto=add\n")
	assert.Equal(t, []string{"/etc/pki/quay.pem"}, g.Authorized)
}

func TestWhatIsSaidInheritedAndDefault(t *testing.T) {
	g := swanctl(`
base {
    rekey_time = 2h
    dpd_delay = 30
    local {
        id = "us.example"   # a comment
    }
}
connections {
    a : base {
        remote_addrs = 192.0.2.1, 192.0.2.8/29, 192.0.2.64-192.0.2.70, peer.example
        rekey_time = 90m
        dpd_delay =
        remote {
            auth = psk
            id = @Them.Example
        }
        children {
            one {
                local_ts = 10.1.0.7/24[tcp/https], dynamic[icmp]
                remote_ts = 10.2.0.1-10.2.0.9[udp/5000-5010], fd00::/64
                esp_proposals = aes256gcm16-x25519-esn, aes128-sha256
                start_action = trap|start
                life_bytes = 2g
                replay_window = 0
            }
            two : connections.a.children.one {
                remote_ts = 10.3.0.0/24
            }
        }
    }
}
`, nil)
	require.Empty(t, readtest.Problems(g))
	require.Empty(t, readtest.Unread(g))
	require.Len(t, g.Connections, 1)
	c := g.Connections[0]

	assert.Equal(t, model.Said, c.Rekey.Origin)
	assert.Equal(t, 90*time.Minute, c.Rekey.Value)
	assert.Equal(t, "swanctl.conf:12", c.Rekey.At.String())
	assert.Equal(t, ike.FQDN("us.example"), c.Local.ID.Value)
	assert.Equal(t, model.Inherited, c.Local.ID.Origin)
	assert.Equal(t, "swanctl.conf:6", c.Local.ID.At.String())
	assert.True(t, c.DPD.IsDefault(), "an empty assignment clears what is inherited")
	assert.Zero(t, c.DPD.Value)
	assert.Equal(t, 9*time.Minute, c.Over.Value, "ten percent of the rekeying time")
	assert.Equal(t, "strongSwan default of connections.<conn>.over_time", c.Over.Why)
	assert.Equal(t, ike.Either, c.Version.Value)
	assert.Equal(t, ike.FQDN("them.example"), c.Remote.ID.Value)
	assert.Equal(t, "192.0.2.1, 192.0.2.8/29, 192.0.2.64-192.0.2.70, peer.example", c.RemoteAddrs.Value.String())
	assert.Len(t, c.RemoteAddrs.Value.Fixed(), 1)
	assert.Len(t, c.Proposals.Value, 2, "the daemon's own")

	require.Len(t, c.Children, 2)
	one, two := c.Children[0], c.Children[1]
	assert.Equal(t, "10.1.0.0/24 tcp 443, own address icmp", one.Local.Value.String())
	assert.Equal(t, "10.2.0.1-10.2.0.9 udp 5000-5010, fd00::/64", one.Remote.Value.String())
	assert.Equal(t, model.StartBoth, one.Start.Value)
	assert.Equal(t, uint64(2<<30), one.LifeBytes.Value)
	assert.Zero(t, one.ReplayWindow.Value)
	assert.Equal(t, 66*time.Minute, one.Life.Value)
	assert.Equal(t, "10.3.0.0/24", two.Remote.Value.String())
	assert.Equal(t, model.Inherited, two.Proposals.Origin)
	assert.Equal(t, "ESN", one.Proposals.Value[0].Transforms[ike.Sequence].Labels())
}

func TestDefaultsThatHangTogether(t *testing.T) {
	g := swanctl(
		"connections {\n a {\n reauth_time = 3h\n children {\n k {\n rekey_time = 0\n }\n }\n }\n b {\n reauth_time = 3h\n"+
			" rekey_time = 2h\n }\n c {\n }\n}\n",
		nil,
	)
	a, b, c := g.Connections[0], g.Connections[1], g.Connections[2]
	assert.Equal(
		t,
		[]time.Duration{0, 3 * time.Hour, 18 * time.Minute},
		[]time.Duration{a.Rekey.Value, a.Reauth.Value, a.Over.Value},
		"reauthentication turns rekeying off",
	)
	assert.Equal(
		t,
		[]time.Duration{2 * time.Hour, 18 * time.Minute, 18 * time.Minute},
		[]time.Duration{b.Lifetime(), b.Over.Value, b.Random.Value},
	)
	assert.Equal(t, []time.Duration{4 * time.Hour, 24 * time.Minute}, []time.Duration{c.Lifetime(), c.Over.Value})
	assert.Zero(t, a.Children[0].Life.Value, "no rekeying, no limit")
	assert.Equal(t, ike.NoID, c.Local.ID.Value.Kind)
	assert.Equal(t, ike.AnyID, c.Remote.ID.Value.Kind)
	assert.Equal(t, ike.Certificate, c.Local.Method.Value)
	assert.Equal(t, ike.AnyMethod, c.Remote.Method.Value)
	k := a.Children[0]
	assert.True(t, k.HostToHost)
	assert.Equal(
		t,
		"AES-GCM-128 with a 16-byte ICV",
		k.Proposals.Value[0].Transforms[ike.Encryption][0].String(),
		"AES-GCM comes first where nothing is written",
	)
	for _, p := range k.Proposals.Value {
		assert.Empty(t, p.Transforms[ike.KeyExchange], "no PFS by default")
	}
}

func TestProposals(t *testing.T) {
	for text, want := range map[string]string{
		"aes128-sha256-modp2048":     "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)",
		"aes-sha1-modp1024-modp1024": "AES-CBC-128 / HMAC-SHA1 cut to 96 bits / HMAC-SHA1 / group 2 (MODP 1024)",
		"aes256-sha256-sha512-x25519-modpnone": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits, HMAC-SHA2-512 cut to 256 bits / " +
			"HMAC-SHA2-256, HMAC-SHA2-512 / group 31 (Curve25519)",
		"aes128gcm16-sha384-ecp384":      "AES-GCM-128 with a 16-byte ICV / HMAC-SHA2-384 / group 20 (NIST P-384)",
		"aes128gcm128-prfsha384-ecp384":  "AES-GCM-128 with a 16-byte ICV / HMAC-SHA2-384 / group 20 (NIST P-384)",
		"aes128ccm8-prfaesxcbc-curve448": "AES-CCM-128 with an 8-byte ICV / AES-XCBC / group 32 (Curve448)",
	} {
		g := swanctl("connections {\n c {\n proposals = "+text+"\n }\n}\n", nil)
		assert.Nil(t, g.Connections[0].Unusable, text)
		assert.Equal(t, want, g.Connections[0].Proposals.Value[0].Names(), text)
	}
	for text, want := range map[string]string{
		"aes128-aes128gcm16-sha256-modp2048": "combined ciphers",
		"aes128-sha256":                      "no key exchange",
		"aes128-modp2048":                    "no integrity",
		"aes128gcm16-modp2048":               "no pseudorandom function",
		"sha256-modp2048":                    "no cipher",
		"AES128-sha256-modp2048":             `"AES128" is not a keyword`,
		"aes128-sha256_96-modp2048":          "not for IKE",
		"aes128-sha256-modp2048-ke1_sha256":  "not a key exchange",
	} {
		g := swanctl("connections {\n c {\n proposals = "+text+"\n }\n}\n", nil)
		require.NotNil(t, g.Connections[0].Unusable, text)
		assert.Contains(t, g.Connections[0].Unusable.Error(), want)
		assert.Contains(t, g.Connections[0].Unusable.Error(), "swanctl.conf:3")
		assert.False(t, g.Connections[0].Doubts.Certain())
	}
}

func TestSecretsNeverShow(t *testing.T) {
	g := swanctl(
		"secrets {\n ike-a {\n id-1 = a.example\n secret = \"my very secret words\"\n }\n eap-b {\n secret = 0x"+"6d7973656372"+
			"\n }\n ike-c {\n secret = \"two\\nlines\"\n }\n}\n",
		nil,
	)
	require.Len(t, g.Keys, 2)
	assert.Equal(t, "my very secret words", g.Keys[0].Secret.Reveal())
	assert.Equal(t, []ike.Identity{ike.FQDN("a.example")}, g.Keys[0].Owners)
	for i := range g.Files[0].Lines() {
		assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(i+1)), "very secret")
		assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(i+1)), "6d79")
		assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(i+1)), "lines")
	}
	assert.NotContains(t, fmt.Sprintf("%+v", g.Keys[0]), "very secret")
}

func TestIncludes(t *testing.T) {
	g := swanctl(
		"connections {\n include conf.d/*.part\n}\ninclude /etc/swanctl/more.conf\ninclude gone.conf\ninclude none/*.conf\n"+
			"include swanctl.conf\ninclude ../../outside\n",
		map[string]string{
			"conf.d/a.part": "a {\n version = 2\n}\n",
			"conf.d/b.part": "b {\n warble = 1\n}\n",
			"more.conf":     "connections {\n a {\n dpd_delay = 5m\n }\n}\n",
		},
	)
	require.Len(t, g.Connections, 2)
	assert.Equal(t, "conf.d/a.part:2", g.Connections[0].Version.At.String())
	assert.Equal(t, "more.conf:3", g.Connections[0].DPD.At.String(), "later sections extend earlier ones")
	assert.Len(t, g.Files, 4)
	assert.Contains(t, readtest.Problems(g), "swanctl.conf:7: swanctl.conf includes itself")
	unread := strings.Join(readtest.Unread(g), "\n")
	assert.Contains(t, unread, `swanctl.conf:5: the included file gone.conf was not given`)
	assert.Contains(t, unread, `conf.d/b.part:2: "warble" is not a known option of connections.<conn>`)
	assert.Contains(t, unread, `swanctl.conf:8: the included file ../../outside was not given`)
}

func TestReferencesThatMissOrTurnInCircles(t *testing.T) {
	g := swanctl(
		"t {\n dpd_delay = 1m\n}\nunused {\n}\nu : v {\n}\nv : u {\n}\nconnections {\n a : t, gone {\n }\n b : u {\n }\n}\n",
		nil,
	)
	var defs []string
	for _, d := range g.Definitions {
		defs = append(defs, fmt.Sprintf("%s used %d missing %v", d.Name, len(d.Used), d.Missing))
	}
	assert.Equal(
		t,
		[]string{
			"gone used 1 missing true",
			"t used 1 missing false",
			"u used 2 missing false",
			"unused used 0 missing false",
			"v used 1 missing false",
		},
		defs,
	)
	assert.Contains(t, strings.Join(readtest.Problems(g), "\n"), "refers to itself")
}

func TestBrokenTextLosesNothingElse(t *testing.T) {
	good := "connections {\n good {\n version = 2\n }\n}\n"
	for text, want := range map[string]string{
		"}\n" + good: "a closing brace has no opening one",
		good + "secrets {\n ike {\n secret = \"abc": "a quotation mark opened here is not closed",
		good + "pools {\n":                          `section pools, opened at line 6, is not closed: the file ends here`,
		good + strings.Repeat("a {\n", 100_000):     "sections nest more than 64 deep",
	} {
		g := swanctl(text, nil)
		assert.Contains(t, strings.Join(readtest.Problems(g), "\n"), want)
		require.NotEmpty(t, g.Connections)
		assert.Equal(t, ike.V2, g.Connections[0].Version.Value)
	}
	g := swanctl("connections {\r\n\tgood {\r\n\t\tversion = 2\r\n\t}\r\n}\r\n????\xff\n", nil)
	assert.Equal(t, ike.V2, g.Connections[0].Version.Value)
	assert.Len(t, readtest.Unread(g), 1)
}

func TestReferencesDoNotExplode(t *testing.T) {
	var b strings.Builder
	b.WriteString("s0 {\n k = v\n sub {\n x = y\n }\n}\n")
	for i := 1; i < 60; i++ {
		fmt.Fprintf(&b, "s%d : s%d, s%d {\n a : s%d {\n }\n b : s%d {\n }\n}\n", i, i-1, i-1, i-1, i-1)
	}
	b.WriteString("connections {\n c : s59 {\n }\n}\n")
	start := cputime.Spent()
	g := swanctl(b.String(), nil)
	assert.Less(t, cputime.Spent()-start, 10*time.Second)
	assert.Contains(t, strings.Join(readtest.Problems(g), "\n"), "the rest is not followed")
}

func FuzzSwanctl(f *testing.F) {
	f.Add(
		"a : b, c.d {\n k = \"v\\\"\" w # c\n}\nconnections {\n x : a {\n proposals = aes-sha1-modp1024, default\n children {\n y {\n" +
			" local_ts = 10.0.0.0/8[tcp/1-2]\n } } } }",
	)
	f.Add("secrets {\n ike {\n secret = 0sAAAA\n id = C=AT, CN=x\n } }\ninclude x*\n")
	f.Fuzz(func(t *testing.T, text string) {
		g := swanctl(text, nil)
		for _, c := range g.Connections {
			_ = c.Proposals.Value
			for _, k := range c.Children {
				_ = ike.Domain(k.Local.Value, k.Remote.Value, netip.Addr{}, netip.Addr{})
			}
		}
	})
}

// TestVersions is what the pages of 5.9.8 and 6.0.1 say, and what 5.9.8 did.
func TestVersions(t *testing.T) {
	const text = "connections {\n c {\n  childless = prefer\n  children {\n   k {\n    life_time = 10h\n    life_bytes = 1000\n   }\n  }\n }\n}\n"
	for version, want := range map[string]struct {
		rekey   time.Duration
		bytes   uint64
		refused bool
	}{
		"# strongSwan 5.9.8\n":  {time.Hour, 0, true},
		"# strongSwan 5.9.14\n": {time.Hour, 0, false},
		"# strongSwan 6.0.1\n":  {9 * time.Hour, 900, false},
		"":                      {9 * time.Hour, 900, false},
	} {
		c := swanctl(version+text, nil).Connections[0]
		assert.Equal(t, want.rekey, c.Children[0].Rekey.Value, version)
		assert.Equal(t, want.bytes, c.Children[0].RekeyBytes.Value, version)
		assert.Equal(t, want.refused, c.Unusable != nil, version)
		assert.Equal(t, version == "", strings.Contains(c.Children[0].Rekey.Why, "since 6.0.1"), version)
	}
}

// TestWhoDemandsRevocationLists: by default nobody does, and "ifuri" only where the certificate names one.
func TestWhoDemandsRevocationLists(t *testing.T) {
	for line, strict := range map[string]bool{
		"": false, "revocation = relaxed": false, "revocation = ifuri": false, "revocation = strict": true,
	} {
		text := "connections {\n a {\n  remote {\n   auth = pubkey\n   " + line + "\n  }\n }\n}\n"
		g := readtest.Read(strongswan.Swanctl, "swanctl.conf", text, nil)
		assert.Empty(t, readtest.Unread(g), line)
		assert.Equal(t, strict, g.Connections[0].Remote.Strict, line)
	}
}
