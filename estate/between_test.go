package estate_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFileThatFitsTwoDaemons: what neither daemon has for itself alone is read as the one whose other files lie beside it, else as the one
// under which more is understood, else as told; and what it was taken for is always said.
func TestFileThatFitsTwoDaemons(t *testing.T) {
	const both = "conn a\n\tleft=192.0.2.1\n\tright=198.51.100.1\n\tleftsubnet=10.1.0.0/16\n\trightsubnet=10.2.0.0/16\n" +
		"\tauthby=secret\n\tauto=start\n"
	for name, c := range map[string]struct {
		files        fstest.MapFS
		format, says string
	}{
		"strongSwan's file beside it": {fstest.MapFS{"a/ipsec.conf": file(both),
			"a/strongswan.conf": file("charon {\n  retransmit_tries = 3\n  plugins {\n" +
				"    kernel-netlink {\n    }\n  }\n}\n")}, "ipsec.conf-strongswan", "other files of strongSwan lie beside it"},
		"a word of one": {fstest.MapFS{"a/ipsec.conf": file(both, "\tikev2=insist\n\tikelifetime=8h\n")}, "ipsec.conf-libreswan", ""},
		"a word of the other": {fstest.MapFS{"a/ipsec.conf": file(both, "\tleftfirewall=yes\n\tkeyingtries=%forever\n"+
			"\treauth=no\n\tmargintime=9m\n")}, "ipsec.conf-strongswan", ""},
		"nothing of either": {fstest.MapFS{"a/ipsec.conf": file(both)}, "ipsec.conf-strongswan", "it fits Libreswan too"},
		"told": {fstest.MapFS{"a/ipsec.conf": file(both),
			"toril.yaml": file("formats:\n  a/ipsec.conf: ipsec.conf-libreswan\n")}, "ipsec.conf-libreswan", "toril.yaml"},
	} {
		t.Run(name, func(t *testing.T) {
			e := load(t, c.files)
			require.Len(t, e.Gateways, 1)
			for _, f := range e.Gateways[0].Files {
				if f.Path != "a/ipsec.conf" {
					continue
				}
				assert.Equal(t, c.format, f.Format)
				assert.Contains(t, f.Why, c.says)
			}
		})
	}
}
