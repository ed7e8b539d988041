package libreswan_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/read/libreswan"
	"toril/read/readtest"
)

func readConf(t *testing.T, text string) *model.Gateway {
	t.Helper()
	return readtest.Read(libreswan.Format, "ipsec.conf", text, nil)
}

func TestConnections(t *testing.T) {
	g := readConf(t, `config setup
	virtual-private=%v4:10.0.0.0/8

conn %default
	ikev2=insist

conn shared
	left=192.0.2.1
	leftid=@headland.example

conn quay
	also=shared
	leftsubnets={10.1.0.0/16,10.9.0.0/16}
	right=198.51.100.7
	rightid="C=AT, O=Quay, CN=gw"
	rightsubnet=10.2.0.0/16
	authby=secret
	ike=aes256-sha2_256;modp2048,aes_gcm256-sha2-dh19
	esp=aes_gcm256
	salifetime=1h
	ikelifetime=4h
	auto=start
	dpddelay=30
	dpdtimeout=120

conn ignored
	also=shared
	right=198.51.100.70
`)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `connection quay Libreswan
  version IKEv2, aggressive (false), encap (false), mobike (false)
  192.0.2.1 > 198.51.100.7
  pre-shared key headland.example > pre-shared key C=at, O=quay, CN=gw
  ike AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)
  ike AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-256 / group 19 (NIST P-256)
  rekey 3h51m0s, reauth (0s), dpd 30s
  child quay/1x1: 10.1.0.0/16 === 10.2.0.0/16
    ESP AES-GCM-256 with a 16-byte ICV / group 14 (MODP 2048), group 19 (NIST P-256) / ESN, no ESN
    mode (tunnel), start at start, rekey 51m0s, life 1h0m0s, bytes (0), window (128), if_id (0), mark ()
  child quay/2x1: 10.9.0.0/16 === 10.2.0.0/16
    ESP AES-GCM-256 with a 16-byte ICV / group 14 (MODP 2048), group 19 (NIST P-256) / ESN, no ESN
    mode (tunnel), start at start, rekey 51m0s, life 1h0m0s, bytes (0), window (128), if_id (0), mark ()
`, readtest.Connections(g))
	assert.Equal(t, model.Inherited, g.Connections[0].Version.Origin, "said by %default")
	assert.Equal(t, 5, g.Connections[0].Version.At.Line)
	assert.Equal(t, model.Inherited, g.Connections[0].LocalAddrs.Origin, "said by the section that also names")
	assert.Contains(t, g.Connections[0].Children[0].ReplayWindow.Why, "Libreswan default of ipsec.conf conn.replay-window")
}

func TestOldVersionAndUnknownKeyword(t *testing.T) {
	g := readConf(t, `conn old
	ikev2=never
	left=192.0.2.1
	right=198.51.100.8
	leftprotoport=17/1701
	rightprotoport=17/%any
	type=transport
	ike=3des-md5
	phase2=ah
	phase2alg=sha1
	aggressive=yes
	auto=add
	shoesize=9
`)
	assert.Equal(t, []string{`ipsec.conf:13: "shoesize" is not a known option of ipsec.conf conn`}, readtest.Unread(g))
	c := g.Connections[0]
	assert.False(t, c.Doubts.Certain())
	assert.NotNil(t, c.Unusable, "the daemon takes nothing of a file with a keyword that it does not know")
	assert.Equal(t, ike.V1, c.Version.Value)
	assert.Equal(t, ike.AH, c.Children[0].Protocol.Value)
	assert.Equal(
		t,
		"HMAC-SHA1 cut to 96 bits / group 5 (MODP 1536)",
		c.Children[0].Proposals.Value[0].Names(),
		"pfs=yes is the default",
	)
	assert.Equal(t, "own address udp 1701", c.Children[0].Local.Value.String())
}

func TestPFSAndSequence(t *testing.T) {
	for body, want := range map[string]string{
		"esp=aes256-sha2_256": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / group 14 " +
			"(MODP 2048) / ESN, no ESN",
		"esp=aes256-sha2_256\n\tpfs=no": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / ESN, no ESN",
		"esp=aes256-sha2_256-dh19\n\tesn=no": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / group 19 " +
			"(NIST P-256)",
		"esp=aes256-sha2_256;none\n\tesn=yes":                          "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / ESN",
		"esp=aes_gcm_b256-null\n\tesn=no\n\tpfs=no":                    "AES-GCM-256 with a 12-byte ICV",
		"esp=aes-sha1\n\tesn=no\n\tpfs=no":                             "AES-CBC-128, AES-CBC-256 / HMAC-SHA1 cut to 96 bits",
		"esp=null-sha1\n\tesn=no\n\tpfs=no":                            "no encryption / HMAC-SHA1 cut to 96 bits",
		"esp=chacha20_poly1305\n\tesn=no\n\tpfs=no":                    "ChaCha20-Poly1305",
		"esp=3des-md5+sha1\n\tesn=no\n\tpfs=no":                        "3DES / HMAC-MD5 cut to 96 bits, HMAC-SHA1 cut to 96 bits",
		"phase2=ah\n\tah=sha2_512\n\tesn=no\n\tpfs=no":                 "HMAC-SHA2-512 cut to 256 bits",
		"esp=aes_ccm128-null\n\tesn=no\n\tpfs=no":                      "AES-CCM-128 with a 16-byte ICV",
		"esp=aes256\n\tikev2=no\n\tpfs=no":                             "AES-CBC-256 / HMAC-SHA1 cut to 96 bits",
		"esp=aes256-aes_xcbc\n\tesn=no\n\tpfs=no":                      "AES-CBC-256 / AES-XCBC cut to 96 bits",
		"esp=camellia256-sha2_384\n\tesn=no\n\tpfs=no":                 "Camellia-CBC-256 / HMAC-SHA2-384 cut to 192 bits",
		"esp=aes_ctr256-sha2_512\n\tesn=no\n\tpfs=no":                  "AES-CTR-256 / HMAC-SHA2-512 cut to 256 bits",
		"esp=aes192+aes256-sha1\n\tesn=no\n\tpfs=no":                   "AES-CBC-192, AES-CBC-256 / HMAC-SHA1 cut to 96 bits",
		"esp=aes_gcm_16_256\n\tesn=no\n\tpfs=no":                       "AES-GCM-256 with a 16-byte ICV",
		"esp=aes_gcm_16_256;dh21\n\tesn=no\n\tpfs=yes":                 "AES-GCM-256 with a 16-byte ICV / group 21 (NIST P-521)",
		"esp=aes256-sha1;modp1536\n\tesn=no\n\tpfs=yes":                "AES-CBC-256 / HMAC-SHA1 cut to 96 bits / group 5 (MODP 1536)",
		"esp=aes256-sha2_256\n\tsha2-truncbug=yes\n\tpfs=no\n\tesn=no": "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits",
	} {
		g := readConf(t, "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tike=aes256-sha2_256;modp2048\n\tauto=add\n\t"+body+"\n")
		require.Len(t, g.Connections, 1, body)
		assert.Empty(t, readtest.Unread(g), body)
		assert.Equal(t, want, g.Connections[0].Children[0].Proposals.Value[0].Names(), body)
	}
}

func TestRefusedProposals(t *testing.T) {
	for ike, why := range map[string]string{
		"ike=des-md5":                     `"des" is not a cipher that it knows`,
		"ike=aes256-sha1;modp1024":        `"modp1024" is not a group that it takes here`,
		"ike=aes256-sha2_256-prfsha512":   `"prfsha512" is not a group`,
		"ike=null-sha1":                   `it does not take the cipher "null" here`,
		"esp=aes256-sha1;modp2048,aes128": "either all proposals name a group, or none does",
		"esp=twofish":                     `"twofish" is not a cipher that it knows`,
		"type=sideways":                   `"sideways" is not a type of connection`,
		"auto=sometimes":                  `"sometimes" is none of`,
		"authby=handshake":                "not a known method of authentication",
		"salifetime=soon":                 `"soon" is not a time`,
	} {
		auto := "\tauto=add\n"
		if strings.HasPrefix(ike, "auto=") {
			auto = ""
		}
		g := readConf(t, "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n"+auto+"\t"+ike+"\n")
		require.Len(t, g.Connections, 1, ike)
		c := g.Connections[0]
		if assert.NotNil(t, c.Unusable, ike) {
			assert.Contains(t, c.Unusable.Message, why)
		}
		assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), why)
	}
}

func TestIdentities(t *testing.T) {
	for text, want := range map[string]ike.Identity{
		"@gw.example":     ike.FQDN("gw.example"),
		"@[office key]":   {Kind: ike.IDKey, Value: "office key"},
		"user@gw.example": {Kind: ike.IDMail, Value: "user@gw.example"},
		"198.51.100.9":    {Kind: ike.IDAddr, Value: "198.51.100.9"},
		`"CN=gw, O=Quay"`: ike.DN("CN=gw, O=Quay"),
		"%fromcert":       {Kind: ike.NoID},
		"@#0a0b":          {Kind: ike.IDKey, Value: "#0a0b"},
	} {
		g := readConf(t, "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tauto=add\n\tleftid="+text+"\n")
		assert.Equal(t, want, g.Connections[0].Local.ID.Value, text)
	}
}

func TestInterfaceMakesItRouteBased(t *testing.T) {
	g := readConf(
		t,
		"conn a\n\tleft=%defaultroute\n\tright=%any\n\tauto=ondemand\n\tipsec-interface=7\n\tppk=insist\n\tencapsulation=yes\n"+
			"\tcompress=yes\n\tipsec-max-bytes=1GiB\n\trekey=no\n",
	)
	c := g.Connections[0]
	assert.True(t, c.Children[0].RouteBased())
	assert.True(t, c.PPK.Value && c.PPKRequired.Value && c.Encap.Value && c.Children[0].IPComp.Value)
	assert.True(t, c.RemoteAddrs.Value.Any())
	assert.Equal(t, uint64(1<<30), c.Children[0].LifeBytes.Value)
	assert.Zero(t, c.Children[0].Rekey.Value)
	assert.Equal(t, model.StartTraffic, c.Children[0].Start.Value)
}

func FuzzLibreswan(f *testing.F) {
	f.Add("conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tleftsubnets={10.0.0.0/8 10.1.0.0/16}\n\tike=aes256-sha2;dh19\n\tauto=start\n")
	f.Add("conn %default\n\talso=a\nconn a\n\talso=%default\n\tauto=add\n")
	f.Add("config setup\n\tuniqueids=yes\nconn \"x\"\n\tleftid=@[k]\n\tesp=aes_gcm256-null\n\tauto=keep\n")
	f.Fuzz(func(t *testing.T, text string) {
		g := readtest.Read(libreswan.Format, "ipsec.conf", text, nil)
		for _, c := range g.Connections {
			for _, k := range c.Children {
				k.Domain(model.Address{}.Lo, model.Address{}.Lo)
			}
		}
	})
}

// TestVersions asks for what the programs of three versions said of one file (addconn and algparse of 4.3, 4.10 and 5.2).
func TestVersions(t *testing.T) {
	const groupsOld = "group 14 (MODP 2048), group 15 (MODP 3072), group 16 (MODP 4096), group 18 (MODP 8192), group 19 (NIST " +
		"P-256), group 20 (NIST P-384), group 21 (NIST P-521), group 31 (Curve25519)"
	const groupsNew = "group 19 (NIST P-256), group 20 (NIST P-384), group 21 (NIST P-521), group 31 (Curve25519), group 16 (MODP " +
		"4096), group 15 (MODP 3072), group 14 (MODP 2048), group 18 (MODP 8192)"
	read := func(version, body string) *model.Gateway {
		return readConf(t, version+"conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tauthby=secret\n\tauto=add\n"+body)
	}
	for version, want := range map[string]struct {
		groups  string
		own     int
		window  int
		refused bool
		life    time.Duration
	}{
		"# Libreswan 4.1\n":        {groupsOld, 4, 32, true, time.Hour},
		"# Libreswan 4.3\n":        {groupsOld, 4, 32, true, 8 * time.Hour},
		"# Libreswan U4.10/K6.1\n": {groupsOld, 4, 128, true, 8 * time.Hour},
		"# Libreswan 5.2\n":        {groupsNew, 5, 128, false, 8 * time.Hour},
		"":                         {groupsNew, 5, 128, false, 8 * time.Hour},
	} {
		g := read(version, "")
		c := g.Connections[0]
		assert.Equal(t, want.groups, ike.All(c.Proposals.Value, ike.KeyExchange).Labels(), version)
		assert.Len(t, c.Proposals.Value, want.own, version)
		assert.Len(t, c.Children[0].Proposals.Value, want.own, version)
		assert.Equal(t, want.window, c.Children[0].ReplayWindow.Value, version)
		assert.Equal(t, want.life, c.Rekey.Value+9*time.Minute, version)
		assert.Equal(t, want.refused, len(read(version, "\tkeyexchange=ikev1\n").Refused) > 0, version)
		assert.Equal(t, version == "", strings.Contains(c.Children[0].ReplayWindow.Why, "since 4.6; before: 32"), version)
	}
	assert.Equal(t, ike.V1, read("# Libreswan 5.2\n", "\tkeyexchange=ikev1\n").Connections[0].Version.Value)
	assert.Equal(t, ike.V2, read("", "\tkeyexchange=ikev2\n").Connections[0].Version.Value)
	assert.Equal(t, ike.V2, read("# Libreswan 4.10\n", "\tkeyexchange=ike\n").Connections[0].Version.Value)
	assert.NotEmpty(t, readtest.Unread(read("", "\tkeyexchange=ikev1\n\tikev2=yes\n")), "which of the two holds is not known")
}
