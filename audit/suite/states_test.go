package suite_test

import (
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnIKESAWithoutAChildPassesNothing: it comes up, and no child does, whoever initiates; with one of two children it comes up in part.
func TestAnIKESAWithoutAChildPassesNothing(t *testing.T) {
	end := func(own, far int, esp string, more string) *fstest.MapFile {
		return &fstest.MapFile{
			Data: fmt.Appendf(nil, "connections {\n c {\n  version = 2\n  local_addrs = 192.0.2.%d\n  remote_addrs = 192.0.2.%d\n"+
				"  proposals = aes256-sha256-modp2048\n  local {\n   auth = psk\n   id = g%d\n  }\n  remote {\n   auth = psk\n   id = g%d\n  }\n"+
				"  children {\n   k {\n    local_ts = 10.%d.0.0/16\n    remote_ts = 10.%d.0.0/16\n    esp_proposals = %s\n    start_action = trap\n"+
				"   }\n%s  }\n }\n}\nsecrets {\n ike-1 {\n  secret = \"Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs\"\n }\n}\n",
				own, far, own, far, own, far, esp, more),
		}
	}
	other := func(own, far int) string {
		return fmt.Sprintf("   l {\n    local_ts = 10.%d.0.0/16\n    remote_ts = 10.%d.0.0/16\n    esp_proposals = aes256-sha256\n"+
			"    start_action = trap\n   }\n", own+10, far+10)
	}
	for _, c := range []struct{ esp, more, far, says string }{
		{"aes256-sha256", "", "", "comes up"},
		{"aes128-sha1", "", "", "comes up, passes nothing"},
		{"aes128-sha1", other(1, 2), other(2, 1), "comes up in part"},
	} {
		whole := answersOf(
			t,
			fstest.MapFS{"a/swanctl.conf": end(1, 2, "aes256-sha256", c.more), "b/swanctl.conf": end(2, 1, c.esp, c.far)},
		)
		require.Len(t, whole.states, 1)
		for _, says := range whole.states {
			assert.Equal(t, c.says, says)
		}
	}
}
