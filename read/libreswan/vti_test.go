package libreswan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/libreswan"
	"toril/read/readtest"
)

const vtiConn = "conn a\n\tikev2=insist\n\tleft=192.0.2.1\n\tright=192.0.2.2\n\tleftid=@a.example\n\trightid=@b.example\n" +
	"\tauthby=secret\n\tleftsubnet=0.0.0.0/0\n\trightsubnet=10.9.0.0/16\n"

// TestInterfacesThatTheDaemonMakes: the key of the interface is the mark of the connection, and its routes lead to the remote
// networks unless they are turned off.
func TestInterfacesThatTheDaemonMakes(t *testing.T) {
	for name, c := range map[string]struct{ lines, want string }{
		"a VTI with routes": {"\tmark=7\n\tvti-interface=t0\n\tauto=start\n", "interface t0 vti [] if_id 0 key 7 192.0.2.1 > " +
			"192.0.2.2 down false dynamic false\nroute unicast 10.9.0.0/16 via invalid IP dev t0 table main metric 0 src invalid IP " +
			"static\n"},
		"without routes": {"\tmark=7/0xffffffff\n\tvti-interface=t0\n\tvti-routing=no\n\tauto=start\n",
			"interface t0 vti [] if_id 0 key 7 192.0.2.1 > " +
				"192.0.2.2 down false dynamic false\n"},
		"shared, with an address": {"\tmark=7\n\tvti-interface=t0\n\tvti-shared=yes\n\tvti-routing=no\n" +
			"\tleftvti=172.31.9.1/30\n\tauto=start\n", "interface t0 vti [172.31.9.1/30] if_id 0 key 7 " +
			"192.0.2.1 > invalid IP down false dynamic false\n"},
		"none":                               {"\tauto=start\n", ""},
		"of a connection that is not loaded": {"\tmark=7\n\tvti-interface=t0\n", ""},
	} {
		g := readtest.Read(libreswan.Format, "ipsec.conf", vtiConn+c.lines, nil)
		assert.Equal(t, c.want, readtest.Network(g), name)
		assert.Empty(t, readtest.Unread(g), name)
	}
}
