package strongswan_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/read"
	"toril/read/iproute"
	"toril/read/libreswan"
	"toril/read/readtest"
	"toril/read/strongswan"
)

func ipsecConf(text string) *model.Gateway {
	return readtest.Read(strongswan.IPsecConf, "ipsec.conf", text, nil)
}

func TestIPsecConf(t *testing.T) {
	g := ipsecConf(`# two sites
config setup
	charondebug="ike 1"

conn %default
	keyexchange=ikev2
	ike=aes256-sha256-modp2048!
	esp=aes256gcm16-modp2048!
	dpdaction=restart

conn base
	left=192.0.2.1
	leftid=@headland.example
	leftsubnet=10.1.0.0/16
	authby=secret

conn quay
	also=base
	right=198.51.100.7
	rightid=@quayside.example
	rightsubnet=10.2.0.0/16,10.3.0.0/16
	ikelifetime=8h
	lifetime=1h
	rekeymargin=5m
	auto=start

conn old
	also=base
	keyexchange=ikev1
	right=%any
	rightsubnet=10.4.0.0/16
	esp=3des-md5!
	ike=3des-md5-modp1024!
	aggressive=yes
	rightprotoport=tcp/443
	type=transport
	reauth=no
	colour=green
	auto=route
`)
	assert.Equal(t, []string{`ipsec.conf:38: "colour" is not a known option of ipsec.conf conn`}, readtest.Unread(g))
	assert.Equal(t, `connection quay strongSwan
  version IKEv2, aggressive (false), encap (false), mobike (true)
  192.0.2.1 > 198.51.100.7
  pre-shared key headland.example > pre-shared key quayside.example
  ike AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)
  rekey (0s), reauth 7h55m0s, dpd 30s
  child quay: 10.1.0.0/16 === 10.2.0.0/16, 10.3.0.0/16
    ESP AES-GCM-256 with a 16-byte ICV / group 14 (MODP 2048)
    mode (tunnel), start at start, rekey 55m0s, life 1h0m0s, bytes (0), window (32), if_id (0), mark ()
connection old strongSwan unsure
  version IKEv1, aggressive true, encap (false), mobike (true)
  192.0.2.1 > %any
  pre-shared key headland.example > pre-shared key (any)
  ike 3DES / HMAC-MD5 cut to 96 bits / HMAC-MD5 / group 2 (MODP 1024)
  rekey (2h51m0s), reauth 0s, dpd 30s
  child old: 10.1.0.0/16 === 10.4.0.0/16 tcp 443
    ESP 3DES / HMAC-MD5 cut to 96 bits
    mode transport, start by traffic, rekey (51m0s), life (1h0m0s), bytes (0), window (32), if_id (0), mark ()
`, readtest.Connections(g))
	var unused []string
	for _, d := range g.Definitions {
		if len(d.Used) == 0 {
			unused = append(unused, d.Name)
		}
	}
	assert.Empty(t, unused, "base is used by also, the others are loaded")
}

func TestDefaultsAreAddedUnlessStrict(t *testing.T) {
	g := ipsecConf(
		"conn a\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tike=aes256-sha256-modp2048\n\tesp=aes256-sha256\n\tauto=add\nconn b\n" +
			"\tleft=192.0.2.1\n\tright=198.51.100.8\n\tauto=add\n",
	)
	a, b := g.Connections[0], g.Connections[1]
	assert.Len(t, a.Proposals.Value, 3, "without \"!\" the daemon's own follow")
	assert.Len(t, a.Children[0].Proposals.Value, 3)
	assert.Equal(t, "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 15 (MODP 3072)", b.Proposals.Value[0].Names())
	assert.True(t, b.Proposals.IsDefault())
	assert.Equal(t, "strongSwan default of ipsec.conf conn.ike", b.Proposals.Why)
	assert.Equal(t, ike.Certificate, b.Local.Method.Value)
	assert.Equal(t, ike.Addr(b.LocalAddrs.Value[0].Lo), b.Local.ID.Value, "the address stands for an identity that is not said")
}

func TestAlsoInItself(t *testing.T) {
	g := ipsecConf("conn a\n\talso=b\n\tauto=add\nconn b\n\talso=a\n\tleft=192.0.2.1\n")
	assert.Equal(t, []string{"ipsec.conf:5: section a refers to itself"}, readtest.Problems(g)[:1])
	require.Len(t, g.Connections, 2)
}

func TestRightMayBeLocal(t *testing.T) {
	g := readtest.ReadAll([]*read.Format{strongswan.IPsecConf, iproute.Text}, map[string]string{
		"ipsec.conf": "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tleftsubnet=10.1.0.0/16\n\trightsubnet=10.2.0.0/16\n\tauto=add\n",
		"addr.txt":   "2: eth0: <UP> mtu 1500\n    inet 198.51.100.7/24 scope global eth0\n",
	})
	assert.Equal(t, "198.51.100.7", g.Connections[0].LocalAddrs.Value.String())
	assert.Equal(t, "10.2.0.0/16", g.Connections[0].Children[0].Local.Value.String())
}

func TestIPsecSecrets(t *testing.T) {
	g := readtest.Read(strongswan.IPsecSecrets, "ipsec.secrets", `# keys
192.0.2.1 198.51.100.7 : PSK "harbour light"
@headland.example @quayside.example : PSK 0x68617262
: RSA headland.pem "open sesame"
 : PSK 0sVGVzdEtleQ==
bob : EAP "hushhush"
include more.secrets
nonsense without a colon
`, map[string]string{"more.secrets": "%any : PSK plain\n"})
	assert.Equal(t, `key 192.0.2.1 198.51.100.7 for [192.0.2.1 198.51.100.7], 13 bytes
key @headland.example @quayside.example for [headland.example quayside.example], 4 bytes
key  for [], 7 bytes
key %any for [(any)], 5 bytes
`, strings.ReplaceAll(readtest.Connections(g), "[any]", "[(any)]"))
	for n := range g.Files[0].Lines() {
		for _, secret := range []string{"harbour", "68617262", "sesame", "VGVz", "hush", "nonsense"} {
			assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(n+1)), secret)
		}
	}
	assert.Equal(t, []string{"ipsec.secrets:8: an entry is: [who ...] : KIND value"}, readtest.Unread(g))
}

func TestDaemonConf(t *testing.T) {
	g := readtest.ReadAll([]*read.Format{strongswan.DaemonConf, strongswan.Swanctl}, map[string]string{
		"strongswan.conf": "charon {\n  install_routes = no\n  replay_window = 64\n  prefer_configured_proposals = no\n" +
			"  i_dont_care_about_security_and_use_aggressive_mode_psk = yes\n  reuse_ikesa = no\n  plugins {\n    vici {\n    }\n" +
			"  }\n}\n",
		"swanctl.conf": "connections {\n  a {\n    children {\n      k {\n      }\n    }\n  }\n}\n",
	})
	o := g.Options
	assert.True(t, o.NoRoutes.Value && o.InitiatorDecides.Value && o.AggressiveKeys.Value && o.NoReuse.Value)
	assert.Equal(t, 2, o.NoRoutes.At.Line)
	assert.Equal(t, 64, g.Connections[0].Children[0].ReplayWindow.Value)
}

func TestIPsecConfTimes(t *testing.T) {
	g := ipsecConf(
		"conn a\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tikelifetime=2h\n\tkeylife=20m\n\tmargintime=2m\n\trekeyfuzz=50%\n" +
			"\tlifebytes=1000\n\tmarginbytes=100\n\tauto=add\n",
	)
	c, k := g.Connections[0], g.Connections[0].Children[0]
	assert.Equal(t, 118*time.Minute, c.Reauth.Value)
	assert.Equal(t, time.Minute, c.Random.Value)
	assert.Equal(t, 18*time.Minute, k.Rekey.Value)
	assert.Equal(t, uint64(900), k.RekeyBytes.Value)
}

func FuzzIPsecConf(f *testing.F) {
	f.Add("conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tike=aes256-sha256-modp2048!\n\tauto=start\n")
	f.Add("conn %default\n\talso=a\nconn a\n\talso=%default, b\n\tauto=add\n")
	f.Fuzz(func(t *testing.T, text string) { ipsecConf(text) })
}

func FuzzIPsecSecrets(f *testing.F) {
	f.Add("@a @b : PSK \"x\"\n: RSA x.pem\n")
	f.Add(" : PSK 0x0\n\t: PSK 0s====\n")
	f.Fuzz(func(t *testing.T, text string) { readtest.Read(strongswan.IPsecSecrets, "ipsec.secrets", text, nil) })
}

// What one of the daemon's files is refused for leaves the connections of another: each is loaded by itself.
func TestRefusedApart(t *testing.T) {
	g := readtest.ReadAll([]*read.Format{strongswan.IPsecConf, strongswan.Swanctl}, map[string]string{
		"ipsec.conf":   "conn b\n  keyexchange=ikev2\n  right=192.0.2.9\n  auto=start\n",
		"swanctl.conf": "connections {\n  a {\n    remote_addrs = 192.0.2.1\n  }\n",
	})
	refused := map[string]bool{}
	for _, c := range g.Connections {
		refused[c.Name] = c.Unusable != nil
	}
	assert.Equal(t, map[string]bool{"a": true, "b": false}, refused)
}

// TestSecretsThatADaemonDoesNotTake: Libreswan takes no entry of a line that begins with a blank, nor the one before it, and no key that is
// neither quoted nor bits; strongSwan does. Neither takes one without blanks around its colon.
func TestSecretsThatADaemonDoesNotTake(t *testing.T) {
	for text, want := range map[string]struct{ strongswan, libreswan int }{
		": PSK \"a\"\n@x @y : PSK \"b\"\n":    {2, 2},
		": PSK \"a\"\n @x @y : PSK \"b\"\n":   {2, 0},
		"# keys\n : PSK \"a\"\n: PSK \"b\"\n": {2, 1},
		": PSK a\n: PSK 0x6161\n":             {2, 1},
		"@x:PSK \"a\"\n: PSK \"b\"\n":         {1, 1},
	} {
		for conf, takes := range map[string]int{"conn a\n\tauto=add\n\tike=aes256\n": want.strongswan,
			"conn a\n\tikev2=insist\n\tauto=add\n\tphase2=esp\n": want.libreswan} {
			g := readtest.ReadAll([]*read.Format{strongswan.IPsecConf, libreswan.Format, strongswan.IPsecSecrets},
				map[string]string{"ipsec.conf": conf, "ipsec.secrets": text})
			taken := 0
			for _, k := range g.Keys {
				if k.Refused == nil {
					taken++
				}
			}
			assert.Equal(t, takes, taken, "%s%s", conf, text)
		}
	}
	g := readtest.Read(strongswan.IPsecSecrets, "ipsec.secrets", ": PSK \"0x6161\"\n: PSK 0x6161\n", nil)
	assert.Equal(t, "0x6161", g.Keys[0].Secret.Reveal())
	assert.Equal(t, "aa", g.Keys[1].Secret.Reveal())
	assert.False(t, g.Keys[0].Coded)
	assert.True(t, g.Keys[1].Coded)
}

// TestPrivateAlgorithmsAreAnOption (strongswan.conf(5)).
func TestPrivateAlgorithmsAreAnOption(t *testing.T) {
	g := readtest.Read(strongswan.DaemonConf, "strongswan.conf", "charon {\n  accept_private_algs = yes\n  send_vendor_id = no\n}\n", nil)
	assert.True(t, g.Options.PrivateAlgorithms.Value)
	assert.False(t, g.Options.ShowsVendor.Value)
	assert.Equal(t, 3, g.Options.ShowsVendor.At.Line)
	assert.Empty(t, readtest.Unread(g))
}
