package negotiate_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/negotiate"
)

// several are responders with two connections that an initiator fits, or nearly: what each does was asked of it (lab/negotiation,
// TestWhichPolicyAnswers and TestWhichConnectionAnswers).
var several = []struct {
	name          string
	begins        string // what the initiator says beside what all do
	first, second string
	answers       string // for the IKE SA; "" for none
	suite         string // of the IKE SA, or of the child where that is what differs
}{
	// OpenIKED: the last policy that fits, however near its addresses are, unless one is quick
	{"equal", "", "", "", "second", ""},
	{"any address last", "ikesa enc aes-256 enc aes-128 prf hmac-sha1 auth hmac-sha1 group ecp256",
		"ikesa enc aes-256 prf hmac-sha1 auth hmac-sha1 group ecp256",
		"peer any ikesa enc aes-128 prf hmac-sha1 auth hmac-sha1 group ecp256",
		"second", "AES-CBC-128"},
	{"quick", "", "quick peer any", "", "first", ""},
	{"skip", "", "", "skip", "first", ""},
	{"another identity", "", "", "dstid c.example", "first", ""},
	{"another key", "", "", `psk "another"`, "", ""},
	// Libreswan: of two as near the one behind, its IKE proposals or none
	{"L equal", "ike=aes256-sha1;modp2048,aes128-sha1;modp2048", "ike=aes256-sha1;modp2048", "ike=aes128-sha1;modp2048", "second",
		"AES-CBC-128"},
	{"L another suite", "ike=aes256-sha1;modp2048", "ike=aes256-sha1;modp2048", "ike=aes128-sha1;modp2048", "", ""},
	{"L any address last", "", "", "right=%any", "first", ""},
	{"L another identity", "", "", "rightid=@c.example", "first", ""},
	{"L child", "esp=aes256-sha1,aes128-sha1", "esp=aes256-sha1", "esp=aes128-sha1", "second", "child AES-CBC-128"},
	{"L certificates", "esp=aes256-sha1,aes128-sha1", "esp=aes256-sha1", "authby=rsasig esp=aes128-sha1", "first", "child AES-CBC-128"},
	{"L any address of the child", "", "right=%any", "leftsubnet=10.9.0.0/16", "second", "child AES-GCM-256"},
}

func TestWhichOfSeveralAnswers(t *testing.T) {
	for _, c := range several {
		files := fstest.MapFS{}
		if c.name[:2] == "L " {
			files["a/ipsec.conf"] = libreswanOf(1, 2, "ike", c.begins)
			files["b/ipsec.conf"] = &fstest.MapFile{Data: append(libreswanOf(2, 1, "first", c.first).Data,
				libreswanOf(2, 1, "second", c.second).Data...)}
			for _, end := range []string{"a", "b"} {
				files[end+"/ipsec.secrets"] = &fstest.MapFile{Data: []byte(": PSK \"harbour\"\n")}
			}
		} else {
			files["a/iked.conf"] = &fstest.MapFile{Data: []byte(policyOf(1, 2, "ike", "active", c.begins))}
			more := policyOf(2, 1, "first", "passive", c.first) + policyOf(2, 1, "second", "passive", c.second)
			files["b/iked.conf"] = &fstest.MapFile{Data: []byte(more)}
		}
		tu := tunnelOfMakes(t, files)
		require.NotNil(t, tu, c.name)
		a := negotiate.Tunnel(tu)[0]
		if c.answers == "" {
			assert.NotNil(t, a.Failure, c.name)
			continue
		}
		require.Nil(t, a.Failure, "%s: %+v", c.name, a.Failure)
		assert.Equal(t, c.answers, a.Responder.Connection.Name, c.name)
		require.NotEmpty(t, a.Children, c.name)
		assert.Contains(t, a.IKE.String()+" child "+a.Children[0].Suite.String(), c.suite, c.name)
	}
}

// policyOf writes a policy of OpenIKED; what it says takes the place of what all say.
func policyOf(me, peer int, name, start, says string) string {
	names := [...]string{"", "a.example", "b.example"}
	of := map[string]string{
		"peer": fmt.Sprintf("peer 10.0.0.%d", peer), "srcid": "srcid " + names[me], "dstid": "dstid " + names[peer], "psk": `psk "harbour"`,
	}
	eval, sas := "", ""
	says, sas, _ = strings.Cut(says, "ikesa")
	if sas != "" {
		sas = "ikesa" + sas
	}
	switch word, rest, _ := strings.Cut(strings.TrimSpace(says), " "); word {
	case "quick", "skip":
		eval = word
		if rest != "" {
			of["peer"] = rest
		}
	case "":
	default:
		of[word] = strings.TrimSpace(says)
	}
	return fmt.Sprintf("ikev2 \"%s\" %s %s esp from 10.%d.0.0/16 to 10.%d.0.0/16 local 10.0.0.%d %s %s %s %s %s\n", name, eval, start, me,
		peer, me, of["peer"], sas, of["srcid"], of["dstid"], of["psk"])
}

// libreswanOf writes a connection of Libreswan; what it says takes the place of what all say.
func libreswanOf(me, peer int, name, says string) *fstest.MapFile {
	names := [...]string{"", "@a.example", "@b.example"}
	of := map[string]string{
		"left": fmt.Sprintf("10.0.0.%d", me), "right": fmt.Sprintf("10.0.0.%d", peer), "leftid": names[me], "rightid": names[peer],
		"leftsubnet": fmt.Sprintf("10.%d.0.0/16", me), "rightsubnet": fmt.Sprintf("10.%d.0.0/16", peer), "authby": "secret", "auto": "add",
	}
	for one := range strings.FieldsSeq(says) {
		key, value, _ := strings.Cut(one, "=")
		of[key] = value
	}
	text := "conn " + name + "\n"
	for _, key := range []string{"left", "right", "leftid", "rightid", "leftsubnet", "rightsubnet", "authby", "auto", "ike", "esp"} {
		if of[key] != "" {
			text += "\t" + key + "=" + of[key] + "\n"
		}
	}
	return &fstest.MapFile{Data: []byte(text + "\n")}
}
