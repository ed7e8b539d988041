package iked_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/read/iked"
	"toril/read/readtest"
)

func TestPolicies(t *testing.T) {
	g := readtest.Read(iked.Format, "iked.conf", `# headland
lan = "10.1.0.0/16"
set dpd_check_interval 30
user "bob" "hushhush"
ikev2 "quay" active esp \
	from $lan to 10.2.0.0/16 \
	from $lan to 10.3.0.0/16 \
	local 192.0.2.1 peer 198.51.100.7 \
	ikesa enc aes-256 enc aes-128 auth hmac-sha2-256 prf hmac-sha2-256 group modp2048 group curve25519 \
	childsa enc aes-256-gcm group modp2048 esn \
	childsa enc aes-256 auth hmac-sha2-256 noesn \
	srcid headland.example dstid "/C=AT/CN=quay" \
	ikelifetime 4h lifetime 1h bytes 500M \
	psk "not a real key" tag "$name"
ikev2 passive transport proto tcp from 192.0.2.1 port 179 to 198.51.100.9 port 179 ikesa enc aes-256-gcm group ecp256 prf hmac-sha2-384 childsa enc aes-256-gcm noesn ecdsa256
ikev2 "two" ipcomp inet proto { tcp, udp } from 10.9.0.0/24 to 10.8.0.0/24 from 10.9.1.0/24 to 10.8.1.0/24 peer any ikesa enc 3des auth hmac-md5 prf hmac-md5 group grp2 childsa enc aes-128 auth hmac-sha1 noesn lifetime 3600
`, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `connection quay OpenIKED
  version (IKEv2), aggressive (false), encap (false), mobike (true)
  192.0.2.1 > 198.51.100.7
  pre-shared key headland.example > pre-shared key C=at, CN=quay
  ike AES-CBC-256, AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048), group 31 (Curve25519)
  rekey 4h0m0s, reauth (0s), dpd 30s
  child quay: 10.1.0.0/16 === 10.2.0.0/16, 10.3.0.0/16
    ESP AES-GCM-256 with a 16-byte ICV / group 14 (MODP 2048) / ESN
    ESP AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits
    mode (tunnel), start at start, rekey 57m0s, life 1h0m0s, bytes 524288000, window (64), if_id (0), mark ()
connection policy2 OpenIKED
  version (IKEv2), aggressive (false), encap (false), mobike (true)
  (any) > (198.51.100.9)
  certificate or public key (the name of its host) > certificate or public key (any)
  ike AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-384 / group 19 (NIST P-256)
  rekey (0s), reauth (0s), dpd 30s
  child policy2: 192.0.2.1 tcp 179 === 198.51.100.9 tcp 179
    ESP AES-GCM-256 with a 16-byte ICV
    mode transport, start waits for the peer, rekey (2h51m0s), life (3h0m0s), bytes (4294967296), window (64), if_id (0), mark ()
connection two OpenIKED
  version (IKEv2), aggressive (false), encap (false), mobike (true)
  (any) > any
  (certificate or public key) (the name of its host) > (certificate or public key) (any)
  ike 3DES / HMAC-MD5 cut to 96 bits / HMAC-MD5 / group 2 (MODP 1024)
  rekey (0s), reauth (0s), dpd 30s
  child two/1: 10.9.0.0/24 tcp, 10.9.0.0/24 udp === 10.8.0.0/24 tcp, 10.8.0.0/24 udp
    ESP AES-CBC-128 / HMAC-SHA1 cut to 96 bits
    mode (tunnel), start (waits for the peer), rekey 57m0s, life 1h0m0s, bytes (4294967296), window (64), if_id (0), mark ()
  child two/2: 10.9.1.0/24 tcp, 10.9.1.0/24 udp === 10.8.1.0/24 tcp, 10.8.1.0/24 udp
    ESP AES-CBC-128 / HMAC-SHA1 cut to 96 bits
    mode (tunnel), start (waits for the peer), rekey 57m0s, life 1h0m0s, bytes (4294967296), window (64), if_id (0), mark ()
key quay for connection quay, 14 bytes
`, readtest.Connections(g))
	for n := range g.Files[0].Lines() {
		assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(n+1)), "not a real key")
		assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(n+1)), "hushhush")
	}
	domain := g.Connections[2].Children[0].Domain(netip.Addr{}, netip.Addr{})
	assert.Equal(t, "10.9.0.0/24 > 10.8.0.0/24 tcp, udp", domain.String(), "one protocol on both sides")
}

func TestDefaults(t *testing.T) {
	g := readtest.Read(
		iked.Format,
		"iked.conf",
		"ikev2 from any to dynamic\nikev2 \"ah\" ah from 10.1.0.0/16 to 10.2.0.0/16 peer 198.51.100.7\nset passive\nset nomobike\n",
		nil,
	)
	require.Len(t, g.Connections, 2)
	c := g.Connections[0]
	assert.Equal(
		t,
		"AES-GCM-128 with a 16-byte ICV, AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-256, HMAC-SHA2-384, HMAC-SHA2-512, HMAC-SHA1 / "+
			"group 31 (Curve25519), group 21 (NIST P-521), group 20 (NIST P-384), "+
			"group 19 (NIST P-256), group 16 (MODP 4096), group 15 (MODP 3072), group 14 (MODP 2048), group 5 (MODP 1536), group 2 "+
			"(MODP 1024)",
		c.Proposals.Value[0].Names(),
	)
	assert.Equal(t, "OpenIKED default of iked.conf ikesa", c.Proposals.Why)
	assert.Equal(t, "0.0.0.0/0, ::/0", c.Children[0].Local.Value.String())
	assert.True(t, c.Children[0].Remote.Value.Dynamic())
	assert.Equal(t, model.StartNever, c.Children[0].Start.Value)
	assert.False(t, c.MOBIKE.Value)
	assert.Equal(t, ike.AH, g.Connections[1].Children[0].Protocol.Value)
	assert.Empty(t, g.Connections[1].Children[0].Proposals.Value[0].Transforms[ike.Encryption])
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"ikev2 from 10.1.0.0/16 at 10.2.0.0/16":                 `iked.conf:1: "at" stands where "to" was expected`,
		"ikev2 from 10.1.0.0/16 to nowhere.example":             `iked.conf:1: "nowhere.example" is not a network, an address or a range`,
		"ikev2 from 10.1.0.0/16 to 10.2.0.0/16 ikesa enc rot13": `iked.conf:1: "rot13" is not an algorithm of enc`,
		"ikev2 from 10.1.0.0/16 to 10.2.0.0/16 colour green":    `iked.conf:1: "colour" is not a known part of a policy`,
		"ikev2 from 10.1.0.0/16 (10.7.0.0/16) to 10.2.0.0/16":   `iked.conf:1: a translated source is not read`,
		"ikev2 active": `iked.conf:1: the policy names no flow (from ... to ...)`,
		"ikev2 from { 10.1.0.0/16 to 10.2.0.0/16":             `iked.conf:1: a closing brace is missing`,
		"ikev2 from 10.1.0.0/16 to 10.2.0.0/16 lifetime soon": `iked.conf:1: "soon" is not a time (a number, with s, m, h or d behind it)`,
		"flow esp from a to b":                                `iked.conf:1: "flow" is not a known statement`,
		"set colour":                                          `iked.conf:1: "colour" is not a known property`,
		`include "missing.conf"`:                              `iked.conf:1: the included file missing.conf was not given`,
	} {
		g := readtest.Read(iked.Format, "iked.conf", text+"\n", nil)
		assert.Contains(t, readtest.Unread(g), want)
	}
}

func TestIncludeAndMacros(t *testing.T) {
	g := readtest.Read(
		iked.Format,
		"iked.conf",
		"include \"macros.conf\"\nikev2 \"a\" from $lan to $far peer $gw\n",
		map[string]string{"macros.conf": "lan = \"10.1.0.0/16\"\nfar = 10.2.0.0/16\ngw = \"198.51.100.7\"\n"},
	)
	require.Empty(t, readtest.Unread(g))
	assert.Equal(t, "198.51.100.7", g.Connections[0].RemoteAddrs.Value.String())
	assert.Equal(t, "10.2.0.0/16", g.Connections[0].Children[0].Remote.Value.String())
}

func FuzzIked(f *testing.F) {
	f.Add("lan = \"{ 10.0.0.0/8 10.1.0.0/16 }\"\nikev2 \"a\" active esp from $lan to any peer 198.51.100.7 psk \"x\"\n")
	f.Add(
		"set passive\nikev2 quick transport proto { tcp udp } from 192.0.2.1 port 179 to 198.51.100.9 ikesa enc aes-256 group none " +
			"\\\n childsa esn noesn\n",
	)
	f.Add("a = \"$a $a\"\na = \"$a $a\"\nikev2 from $a to $a\n")
	f.Fuzz(func(t *testing.T, text string) {
		g := readtest.Read(iked.Format, "iked.conf", text, nil)
		for _, c := range g.Connections {
			assert.NotEmpty(t, c.Daemon.Name)
		}
	})
}
