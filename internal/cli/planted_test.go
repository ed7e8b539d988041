package cli_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hidingPlaces are where people write what nobody else is to see: in secrets, in what is said to people only, in what scripts are given,
// and in statements that no reader knows. SECRET stands for it.
var hidingPlaces = map[string][]string{
	"swanctl.conf": {
		"secrets {\n ike-a {\n  secret = SECRET\n }\n}\n", "secrets {\n eap-b {\n  id = b\n  secret = \"SECRET\"\n }\n}\n",
		"secrets {\n ppk-a {\n  secret = SECRET\n }\n}\n", "secrets {\n token-x {\n  pin = SECRET\n }\n}\n",
		"secrets {\n private-x {\n  file = a.pem\n  secret = SECRET\n }\n}\n", "# SECRET\n", "warble = SECRET\n",
		"warble {\n a = SECRET\n}\n",
		"connections {\n c {\n  remote_addrs = 192.0.2.9\n  children {\n   k {\n    updown = /usr/local/bin/tell --as SECRET\n" +
			"   }\n  }\n }\n}\n",
		"connections {\n c {\n  remote_addrs = 192.0.2.9\n  warble = SECRET\n  children {\n   k {\n" +
			"    updown = \"/bin/sh -c 'x SECRET'\"\n   }\n  }\n }\n}\n",
		"connections {\n c {\n  version = SECRET\n }\n}\n", "include /etc/swanctl/SECRET.conf\n",
	},
	"ipsec.conf": {
		"conn a\n\tleft=192.0.2.1\n\tright=192.0.2.9\n\tauto=start\n\tleftupdown=\"/usr/local/bin/tell --as SECRET\"\n",
		"conn a\n\tleft=192.0.2.1\n\tright=192.0.2.9\n\tauto=start\n\tike=SECRET\n", "# SECRET\n", "include /etc/ipsec.d/SECRET.conf\n",
		"conn a\n\tleft=192.0.2.1\n\tright=192.0.2.9\n\tauto=start\n\tshoesize=SECRET\n", "conn a\n\tleft=192.0.2.1 # SECRET\n",
		"conn a\n\tleft=192.0.2.1\n\tright=192.0.2.9\n\tauto=add\n\tikelifetime=SECRET\n",
	},
	"ipsec.secrets": {
		"192.0.2.1 192.0.2.9 : PSK \"SECRET\"\n", ": RSA a.pem \"SECRET\"\n", "b : EAP \"SECRET\"\n", "b : XAUTH SECRET\n", "# SECRET\n",
		": PIN %smartcard SECRET\n", "include SECRET.secrets\n", "192.0.2.1 192.0.2.9 PSK SECRET\n", "@SECRET : WARBLE \"SECRET\"\n",
	},
	"iptables-save.txt": {
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j LOG --log-prefix \"SECRET \"\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j LOG --log-prefix SECRET\n-A INPUT -j DROP\n-A INPUT -j DROP\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j NFLOG --nflog-prefix SECRET\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m comment --comment SECRET -j ACCEPT\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m comment --comment \"the SECRET of it\" -j ACCEPT\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m string --algo bm --string SECRET -j DROP\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m warble --wobble SECRET -j DROP\nCOMMIT\n",
		"*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -p tcp -m tcp --dport 21 -j CT --helper SECRET\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m helper --helper SECRET -j ACCEPT\nCOMMIT\n", "# SECRET\n*filter\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j WARBLE --x SECRET\nCOMMIT\n",
	},
	"nftables.conf": {
		"table ip f {\n chain c {\n  type filter hook input priority 0\n  log prefix \"SECRET: \" drop\n  drop\n }\n}\n",
		"table ip f {\n chain c {\n  type filter hook input priority 0\n  tcp dport 22 accept comment \"SECRET\"\n }\n}\n",
		"table ip f {\n ct helper SECRET {\n  type \"ftp\" protocol tcp\n }\n chain c {\n  type filter hook input priority 0\n" +
			"  tcp dport 21 ct helper set \"SECRET\"\n }\n}\n",
		"table ip f {\n chain c {\n  type filter hook input priority 0\n  ct helper \"SECRET\" accept\n }\n}\n",
		"include \"/etc/nftables.d/SECRET.nft\"\n", "define warble = SECRET\ntable ip f {\n}\n",
		"table ip f {\n comment \"SECRET\"\n}\n", "table ip f {\n chain c {\n  meta wobble SECRET accept\n }\n}\n", "# SECRET\n",
	},
	"iked.conf": {
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.9 psk \"SECRET\"\n",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.9 psk SECRET\n", "user \"a\" \"SECRET\"\n", "# SECRET\n",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.9 warble SECRET\n", "include \"/etc/SECRET.conf\"\n",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.9 psk \"x\" tag \"SECRET\"\n",
	},
	"frr.conf": {
		"hostname a\npassword SECRET\n", "enable password SECRET\n", "enable password 8 SECRET\n", "interface e\n description SECRET\n",
		"interface e\n ip ospf authentication-key SECRET\n", "interface e\n ip ospf message-digest-key 1 md5 SECRET\n",
		"router bgp 1\n neighbor 192.0.2.9 password SECRET\n", "router bgp 1\n neighbor 192.0.2.9 description SECRET\n",
		"key chain a\n key 1\n  key-string SECRET\n", "router isis a\n area-password clear SECRET\n", "! SECRET\n", "warble SECRET\n",
		"router rip\n authentication string SECRET\n", "nhrp SECRET\n", "interface e\n ip nhrp authentication SECRET\n",
		"banner motd line SECRET\n",
	},
	"a.network": {
		"[Match]\nName=e\n[Network]\nDescription=SECRET\n", "[Match]\nName=e\n[Network]\nWarble=SECRET\n", "# SECRET\n[Match]\nName=e\n",
		"[Match]\nName=e\n[Link]\nMACAddress=SECRET\n", "[Match]\nName=e\n[DHCPv4]\nHostname=SECRET\n",
	},
	"a.netdev": {
		"[NetDev]\nName=w\nKind=wireguard\n[WireGuard]\nPrivateKey=SECRET\n[WireGuardPeer]\nPresharedKey=SECRET\n",
		"[NetDev]\nName=m\nKind=macsec\n[MACsecTransmitAssociation]\nKey=SECRET\n", "[NetDev]\nName=m\nKind=warble\nDescription=SECRET\n",
	},
	"a.yaml": {
		"network:\n  wifis:\n    w:\n      access-points:\n        home:\n          password: SECRET\n",
		"network:\n  ethernets:\n    e:\n      auth:\n        key-management: eap\n        password: \"SECRET\"\n",
		"network:\n  tunnels:\n    t:\n      mode: wireguard\n      key: SECRET\n",
		"network:\n  ethernets:\n    e:\n      warble: SECRET\n",
		"# SECRET\nnetwork:\n  version: 2\n", "network:\n  ethernets:\n    e:\n      dhcp4: SECRET\n",
		"network:\n  tunnels:\n    t:\n      mode: wireguard\n      peers:\n      - keys: {shared: SECRET}\n",
	},
	"interfaces": {
		"iface e inet static\n  address 10.1.0.1/24\n  wpa-psk SECRET\n",
		"iface e inet static\n  address 10.1.0.1/24\n  wireless-key SECRET\n",
		"iface e inet static\n  address 10.1.0.1/24\n  post-up /usr/local/bin/tell SECRET\n", "# SECRET\niface e inet dhcp\n",
		"iface e inet static\n  address 10.1.0.1/24\n  description SECRET\n",
		"iface e inet static\n  address 10.1.0.1/24\n  warble SECRET\n",
		"iface e inet static\n  address 10.1.0.1/24\n  up ip route add SECRET\n", "source /etc/network/SECRET\n",
		"iface e inet ppp\n  provider SECRET\n",
	},
	"ip-route.txt": {"default via 192.0.2.1 dev e SECRET\n", "SECRET via 192.0.2.1 dev e\n"},
	"x.yang.json": {
		`{"ietf-i2nsf-ike:ipsec-ike": {"pad": {"pad-entry": [{"name": "a", "peer-authentication": {"pre-shared": {"secret": "SECRET"}}}]}}}`,
		`{"ietf-interfaces:interfaces": {"interface": [{"name": "e", "description": "SECRET", "warble": "SECRET"}]}}`,
	},
	"device.cfg": {
		"shared secret SECRET\n", "user admin password SECRET\n", "secret of partner a is SECRET\n", "key 7 SECRET\n", "banner SECRET\n",
		"note SECRET\n", "snmp community SECRET read\n", "partner a\n  preshared \"SECRET\"\n  found at 192.0.2.9\n", "! SECRET\n",
		"tunnel a\n  psk local SECRET\n", "hash SECRET\n", "access token=SECRET\n", "partner a key=SECRET address=192.0.2.9\n",
		"{\"tunnel\": {\"peer\": \"192.0.2.9\", \"shared\": \"SECRET\"}}\n",
		"<tunnel><peer>192.0.2.9</peer><pass>SECRET</pass></tunnel>\n",
		"set tunnel a key SECRET\nset tunnel a peer 192.0.2.9\n", "set tunnel b passphrase \"SECRET\"\n",
	},
}

func randomSecret(r *rand.Rand) string {
	const letters, all = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ", "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
	s := string(letters[r.IntN(len(letters))])
	for range 9 + r.IntN(14) {
		s += string(all[r.IntN(len(all))])
	}
	return s
}

// TestPlantedSecretsShowNowhere: neither what reads, nor what compares, drafts or explains shows them, nor any error. One is planted at a
// time, in each place, or as many as TORIL_PLANTED says.
func TestPlantedSecretsShowNowhere(t *testing.T) {
	r := rand.New(rand.NewPCG(20261201, 378))
	planted, commands, each := 0, 0, 1
	if n, err := strconv.Atoi(os.Getenv("TORIL_PLANTED")); err == nil {
		each = n
	}
	for _, name := range slices.Sorted(maps.Keys(hidingPlaces)) {
		for _, text := range hidingPlaces[name] {
			for range each {
				secret := randomSecret(r)
				planted++
				dir := t.TempDir()
				file := filepath.Join(dir, "g", name)
				require.NoError(t, os.Mkdir(filepath.Dir(file), 0o700))
				require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(text, "SECRET", secret)), 0o600))
				other := filepath.Join(t.TempDir(), "g")
				require.NoError(t, os.MkdirAll(other, 0o700))
				before := strings.ReplaceAll(text, "SECRET", "x1")
				require.NoError(t, os.WriteFile(filepath.Join(other, name), []byte(before), 0o600))
				for _, args := range [][]string{
					{"audit", dir, "--all"}, {"audit", dir, "--format", "json"}, {"audit", dir, "--format", "sarif"},
					{"audit", dir, "--format", "markdown"}, {"tunnels", dir}, {"ends", dir}, {"keys", dir}, {"observed", dir},
					{"fix", dir, "--check", "tidy"}, {"changes", filepath.Dir(other), dir}, {"export", "g", dir}, {"sheet", "g", dir},
					{"formats", "--explain", file},
					{"phrasebook", "draft", file}, {"follow", dir, "--from", "10.1.0.1", "--to", "10.2.0.1"},
				} {
					commands++
					_, out, errs := toril(t, args...)
					out, errs = strings.ReplaceAll(out, dir, ""), strings.ReplaceAll(errs, dir, "")
					assert.NotContains(t, out+errs, secret, "toril %s of %q", strings.Join(args, " "), text)
				}
			}
		}
	}
	assert.Greater(t, planted, 100)
	fmt.Printf("secrets: %d planted, %d commands\n", planted, commands)
}
