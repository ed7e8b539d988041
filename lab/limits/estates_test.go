//go:build lab

package limits

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/lab"
)

// TestMemoryOfAnEstate: ten times the gateways take at most twice the memory. TORIL_LAB_CASES is the larger number of gateways, 10,000 in
// the measurement that docs/performance.md tells of; without it the estate only grows threefold, for time.
func TestMemoryOfAnEstate(t *testing.T) {
	tally := lab.NewTally(t, "memory of an estate within twice that of a tenth of it")
	const small = 1000
	large, err := strconv.Atoi(os.Getenv("TORIL_LAB_CASES"))
	if err != nil {
		large = 3 * small
	}
	program := filepath.Join(t.TempDir(), "toril")
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/toril").CombinedOutput()
	require.NoError(t, err, "%s", out)
	var used [2]int64
	for i, n := range []int{small, large} {
		dir := t.TempDir()
		_, err := demo.Make(n, 1, func(path string, data []byte) error {
			path = filepath.Join(dir, path)
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			return os.WriteFile(path, data, 0o600)
		})
		require.NoError(t, err)
		cmd := exec.Command(program, "audit", dir, "--format", "json", "--fail-on", "critical")
		begin := time.Now()
		if err := cmd.Run(); err != nil { // there are faults
			require.Equal(t, 1, cmd.ProcessState.ExitCode())
		}
		used[i] = cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
		fmt.Printf("lab: %d gateways %5.1f s  %4d MiB\n", n, time.Since(begin).Seconds(), used[i]>>20)
	}
	tally.Count(assert.LessOrEqual(t, float64(used[1]), 2*float64(used[0])))
}
