package libreswan_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/read/readtest"
)

// What stands here was asked of the daemon (4.10): how it reads a setting, and what it does not load.

func one(t *testing.T, body string) (*model.Gateway, *model.Connection) {
	t.Helper()
	g := readConf(t, "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tauto=add\n\t"+strings.ReplaceAll(body, " ", "\n\t")+"\n")
	require.Len(t, g.Connections, 1, body)
	return g, g.Connections[0]
}

func TestLimitsOfBytesAndPackets(t *testing.T) {
	for text, want := range map[string]uint64{"1": 1, "500B": 500, "2KiB": 2048, "2kib": 2048, "3MiB": 3 << 20, "1TiB": 1 << 40, "0": 0} {
		g, c := one(t, "ipsec-max-bytes="+text)
		assert.Equal(t, want, c.Children[0].LifeBytes.Value, text)
		assert.Empty(t, readtest.Unread(g), text)
	}
	_, c := one(t, "ipsec-max-packets=2Ki")
	assert.Equal(t, uint64(2048), c.Children[0].LifePackets.Value)
	for _, text := range []string{"2k", "2M", "2G", "1.5MiB", "2KB", "9999EiB"} {
		g, c := one(t, "ipsec-max-bytes="+text)
		assert.Zero(t, c.Children[0].LifeBytes.Value, "the daemon has no limit then: %s", text)
		assert.Nil(t, c.Unusable, "and loads the connection: %s", text)
		assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), "there is no limit", text)
	}
}

func TestShortNetworks(t *testing.T) {
	for text, want := range map[string]string{
		"0/0": "0.0.0.0/0", "10/8": "10.0.0.0/8", "10.1/16": "10.0.0.0/16", "10.1.7/16": "10.1.0.0/16", "10.1.2.3/16": "10.1.0.0/16",
	} {
		_, c := one(t, "leftsubnet="+text+" rightsubnet=10.2.0.0/16")
		assert.Nil(t, c.Unusable, text)
		assert.Equal(t, want, c.Children[0].Local.Value.String(), text)
	}
}

func TestLifetimesHaveAnEnd(t *testing.T) {
	day := 24 * time.Hour
	for body, want := range map[string]time.Duration{
		"salifetime=30h": day, "salifetime=2d": day, "salifetime=0": day, "salifetime=10m": 10 * time.Minute,
	} {
		_, c := one(t, body)
		assert.Equal(t, want, c.Children[0].Life.Value, body)
	}
	_, c := one(t, "ikelifetime=0")
	assert.Equal(t, day, c.Spans[0].Setting.Value)
	_, c = one(t, "rekeymargin=10h")
	assert.Equal(t, 4*time.Hour, c.Children[0].Rekey.Value, "a margin that is too long is halved to the lifetime's half")
	_, c = one(t, "rekey=no")
	assert.Equal(t, 8*time.Hour, c.Children[0].Life.Value, "what is not renewed still ends")
	assert.Zero(t, c.Children[0].Rekey.Value)
}

func TestWhatIsNotLoaded(t *testing.T) {
	for body, why := range map[string]string{
		"ikev2=no narrowing=yes":                            "for IKEv2 only",
		"ikev2=no mobike=yes":                               "for IKEv2 only",
		"leftsubnet=10.1.0.0/16 rightsubnet=2001:db8::/32":  "one end's network is of IPv4, the other's of IPv6",
		"leftsendcert=yes":                                  "is none of always, sendifasked and never",
		"esp=aes128-sha1-":                                  `"" is not a group`,
		"ike=aes_ccm128-sha1":                               "does not take the cipher",
		"ikev2=no esp=aes128-sha1;dh19":                     `"dh19" is not a group that it takes here`,
		"esp=aes128-sha1;dh19,aes256-sha1;dh31":             "must name the same group first",
		"ikev2=no ike=aes128+aes256-sha1":                   "is not a cipher that it knows",
		"leftsubnet=10.1.0.0/16 rightsubnet=10.2.0.0/40":    "is not a network",
		"esp=aes_gcm256-sha1":                               "takes none beside it",
		"esp=aes256-none":                                   "needs a hash for integrity",
		"ike=aes256-sha1;modp2048;modp1536":                 "was not expected",
		"esp=aes_gcm256+aes256-sha1 rightsubnet=10.9.0.0/8": "cannot stand in one proposal",
	} {
		_, c := one(t, body)
		if assert.NotNil(t, c.Unusable, body) {
			assert.Contains(t, c.Unusable.Message, why, body)
		}
	}
	for _, body := range []string{"narrowing=yes", "mobike=yes", "esp=aes128-sha1;dh19,aes256-sha1;dh31 pfs=no", "esp=aes256;none"} {
		_, c := one(t, body)
		assert.Nil(t, c.Unusable, body)
	}
}

func TestPolicyOfIKEv1(t *testing.T) {
	for setup, closed := range map[string]bool{
		"# Libreswan 4.10\nconfig setup\n\tuniqueids=yes\n": true, "# Libreswan 4.3\nconfig setup\n\tuniqueids=yes\n": false,
		"config setup\n\tikev1-policy=accept\n": false, "config setup\n\tikev1-policy=drop\n": true,
		"config setup\n\tikev1-policy=reject\n": true,
		"# Libreswan 4.10\n":                    false, // another file has it
	} {
		for version, v1 := range map[string]bool{"no": true, "yes": false} {
			g := readConf(t, setup+"\nconn a\n\tleft=192.0.2.1\n\tright=198.51.100.8\n\tauto=add\n\tikev2="+version+"\n")
			assert.Equal(t, closed && v1, g.Connections[0].Unusable != nil, setup+version)
		}
	}
}

func TestWhatIKEv1Takes(t *testing.T) {
	_, c := one(t, "ikev2=no")
	assert.Len(t, c.Children[0].Proposals.Value, 11, "what version 5 offers, one of each size")
	assert.Greater(t, len(c.Children[0].Accepts), 40)
	_, c = one(t, "ikev2=no esp=aes-sha1 pfs=no")
	assert.Equal(t, "AES-CBC-128 / HMAC-SHA1 cut to 96 bits", c.Children[0].Proposals.Value[0].Names())
	sizes := map[int]bool{}
	for _, p := range c.Children[0].Accepts {
		sizes[p.Of(ike.Encryption)[0].KeyBits] = true
	}
	assert.Len(t, sizes, 3, "also 192 bits, which it does not offer")
	_, c = one(t, "")
	assert.Nil(t, c.Accepts)
	assert.True(t, c.Children[0].Whole.Value)
	_, c = one(t, "narrowing=yes replay-window=0")
	assert.False(t, c.Children[0].Whole.Value)
	for _, p := range c.Children[0].Proposals.Value {
		assert.Equal(t, ike.Picks(ike.Sequence, 0), p.Of(ike.Sequence), "without a window the numbers are short")
	}
}
