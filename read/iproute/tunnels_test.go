package iproute_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/iproute"
	"toril/read/readtest"
)

// TestTunnelInterfaces: the same interfaces as text (ip -d link, ip addr) and as JSON.
func TestTunnelInterfaces(t *testing.T) {
	for _, c := range []struct{ name, line, json, want string }{
		{"GRE", "gre remote 203.0.113.9 local 198.51.100.7 ttl 64",
			`{"info_kind":"gre","info_data":{"remote":"203.0.113.9","local":"198.51.100.7"}}`,
			"gre [] if_id 0 key 0 198.51.100.7 > 203.0.113.9"},
		{"IPIP", "ipip remote 203.0.113.9 local 198.51.100.7 ttl inherit",
			`{"info_kind":"ipip","info_data":{"remote":"203.0.113.9","local":"198.51.100.7"}}`,
			"ipip [] if_id 0 key 0 198.51.100.7 > 203.0.113.9"},
		{"SIT", "sit remote 203.0.113.9 local 198.51.100.7 ttl 64",
			`{"info_kind":"sit","info_data":{"remote":"203.0.113.9","local":"198.51.100.7"}}`,
			"sit [] if_id 0 key 0 198.51.100.7 > 203.0.113.9"},
		{"a VTI with one key", "vti remote 203.0.113.9 local 198.51.100.7 ikey 0.0.0.42 okey 0.0.0.42",
			`{"info_kind":"vti","info_data":{"remote":"203.0.113.9","local":"198.51.100.7","ikey":"0.0.0.42","okey":"0.0.0.42"}}`,
			"vti [] if_id 0 key 42 198.51.100.7 > 203.0.113.9"},
		{"an xfrm interface", "xfrm if_id 0x2a", `{"info_kind":"xfrm","info_data":{"if_id":42}}`,
			"xfrm [] if_id 42 key 0 invalid IP > invalid IP"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := readtest.Read(iproute.Text, "net.txt", "9: t0@NONE: <POINTOPOINT,NOARP,UP> mtu 1400\n    "+c.line+"\n", nil)
			want := "interface t0 " + c.want + " down false dynamic false\n"
			assert.Equal(t, want, readtest.Network(text))
			assert.Empty(t, readtest.Unread(text))
			asJSON := readtest.Read(
				iproute.JSON,
				"net.json",
				`[{"ifname":"t0","flags":["POINTOPOINT","NOARP","UP"],"linkinfo":`+c.json+`}]`,
				nil,
			)
			assert.Equal(t, want, readtest.Network(asJSON))
			assert.Empty(t, readtest.Unread(asJSON))
		})
	}
}

// TestKeysInAndOut: a GRE key is written into packets, and one of another number is expected in those that come.
func TestKeysInAndOut(t *testing.T) {
	g := readtest.Read(
		iproute.Text,
		"net.txt",
		"9: t0@NONE: <POINTOPOINT,NOARP,UP> mtu 1400\n    vti remote 203.0.113.9 local 198.51.100.7 ikey 0.0.0.1 okey 0.0.0.2\n",
		nil,
	)
	assert.Equal(t, []uint32{1, 2}, []uint32{g.Interfaces[0].KeyIn, g.Interfaces[0].Key}, "in, out")
}
