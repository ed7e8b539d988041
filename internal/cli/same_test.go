package cli_test

import (
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSameBytes: every command gives the same bytes again, and at any number of processors.
func TestSameBytes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "estate")
	code, _, errs := toril(t, "demo", "--to", dir)
	require.Zero(t, code, errs)
	before := runtime.GOMAXPROCS(0)
	defer runtime.GOMAXPROCS(before)
	for _, command := range []string{
		"audit", "audit --format json", "audit --baseline cnsa2 --format json", "tunnels", "tunnels --format json", "ends",
		"ends --format json --only-differences",
		"follow --gateway lampwright --from 10.10.0.0/23 --to 172.16.50.0/24", "follow --gateway lampwright --from 10.10.0.0/23 --to " +
			"10.40.0.0/16 --format json", "follow --gateway quayside --from 172.16.50.0/24 " +
			"--to 0.0.0.0/0 --tunnel-down --format json",
	} {
		var first string
		for _, processors := range []int{1, 2, 8, 1} {
			runtime.GOMAXPROCS(processors)
			_, out, _ := toril(t, append(strings.Fields(command), dir)...)
			require.NotEmpty(t, out, command)
			if first == "" {
				first = out
			}
			assert.Equal(t, first, out, "%s at %d processors", command, processors)
		}
	}
}
