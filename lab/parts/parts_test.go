//go:build lab

// Package parts spreads an audit over processes with GNU parallel, and joins what they say.
package parts

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/lab"
)

// TestSpreadWithParallel: parts that run side by side, each with the same cache, make the very bytes of one audit.
func TestSpreadWithParallel(t *testing.T) {
	lab.Need(t, "parallel", "parallel")
	tally := lab.NewTally(t, "audits spread over processes, byte for byte that of one")
	dir := t.TempDir()
	program := filepath.Join(dir, "toril")
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/toril").CombinedOutput()
	require.NoError(t, err, "%s", out)
	_, err = demo.Make(200, 7, func(path string, data []byte) error {
		path = filepath.Join(dir, "estate", path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		return os.WriteFile(path, data, 0o600)
	})
	require.NoError(t, err)
	shell := func(script string) {
		cmd := exec.Command("bash", "-ec", script)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	for _, n := range []string{"2", "5"} {
		shell("parallel ./toril audit estate --part {}/" + n + " --cache kept -o part{}.json ::: $(seq " + n + ")")
		shell("./toril join $(seq -f part%g.json " + n + ") --fail-on critical -o joined.json || [ $? = 1 ]")
		shell("./toril audit estate --fail-on critical -o whole.json || [ $? = 1 ]")
		joined, err := os.ReadFile(filepath.Join(dir, "joined.json"))
		require.NoError(t, err)
		whole, err := os.ReadFile(filepath.Join(dir, "whole.json"))
		require.NoError(t, err)
		tally.Count(assert.Equal(t, string(whole), string(joined), n))
	}
}
