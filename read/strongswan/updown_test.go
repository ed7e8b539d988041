package strongswan_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/readtest"
	"toril/read/strongswan"
)

// TestWhatScriptsOpen: the daemon's own script opens the packet filter where it is told so; of another nobody knows what it does.
func TestWhatScriptsOpen(t *testing.T) {
	for _, c := range []struct {
		name, lines string
		opens, host bool
		script      string
	}{
		{"nothing", "", false, false, ""},
		{"the networks", "\tleftfirewall=yes\n", true, false, ""},
		{"the gateway too", "\tleftfirewall=yes\n\tlefthostaccess=yes\n", true, true, ""},
		{"the far end's share is not this end's", "\trightfirewall=yes\n", false, false, ""},
		{"its own script, told to", "\tleftupdown=\"ipsec _updown iptables\"\n", true, false, ""},
		{"its own script, by path", "\tleftupdown=\"/usr/libexec/ipsec/_updown iptables\"\n", true, false, ""},
		{"its own script, not told to", "\tleftupdown=\"ipsec _updown\"\n", false, false, ""},
		{"another script", "\tleftupdown=/etc/tunnel.sh\n", false, false, "/etc/tunnel.sh"},
	} {
		g := readtest.Read(
			strongswan.IPsecConf,
			"ipsec.conf",
			"conn a\n\tleft=192.0.2.1\n\tright=192.0.2.2\n"+c.lines+"\tauto=add\n",
			nil,
		)
		k := g.Connections[0].Children[0]
		assert.Equal(t, fmt.Sprint(c.opens, c.host, c.script), fmt.Sprint(k.Opens.Value, k.OpensHost.Value, k.Script.Value), c.name)
	}
	t.Run("swanctl", func(t *testing.T) {
		g := readtest.Read(
			strongswan.Swanctl,
			"swanctl.conf",
			"connections {\n a {\n  children {\n   b {\n    updown = /usr/libexec/ipsec/_updown iptables\n    hostaccess = yes\n"+
				"   }\n  }\n }\n}\n",
			nil,
		)
		k := g.Connections[0].Children[0]
		assert.Equal(t, "true true", fmt.Sprint(k.Opens.Value, k.OpensHost.Value, k.Script.Value))
		assert.Equal(t, 5, k.Opens.At.Line)
	})
}
