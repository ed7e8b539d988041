package demo_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

// TestMadeEstates: of an estate that was made, every fault is found, and nothing else of low or above.
func TestMadeEstates(t *testing.T) {
	for seed, n := range map[uint64]int{1: 300, 2: 40, 3: 1, 4: 2} {
		dir := t.TempDir()
		faults, err := demo.Make(n, seed, func(path string, data []byte) error {
			path = filepath.Join(dir, path)
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			return os.WriteFile(path, data, 0o600)
		})
		require.NoError(t, err)
		e, err := pair.Load(t.Context(), []string{dir}, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		assert.Empty(t, e.Problems)
		assert.Len(t, e.Gateways, n)
		b, err := baseline.Named(baseline.Default)
		require.NoError(t, err)
		r, err := audit.Run(t.Context(), e, suite.All(), b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		var found []demo.Fault
		for _, f := range r.Findings {
			if f.Severity > audit.Info && f.PartOf == "" {
				found = append(found, demo.Fault{Check: f.Check, Gateway: f.Gateway, Tunnel: f.Tunnel})
			}
		}
		missed, wrong := demo.Compare(faults, found)
		assert.Empty(t, missed, "faults that were not found")
		assert.Empty(t, wrong, "findings of no fault")
		if n == 300 {
			assert.Greater(t, len(faults), 20)
			again, err := demo.Make(n, seed, func(string, []byte) error { return nil })
			require.NoError(t, err)
			assert.Equal(t, faults, again, "the same seed, the same faults")
		}
	}
}

func TestMakeRefuses(t *testing.T) {
	for _, n := range []int{-1, 0, demo.Most + 1} {
		_, err := demo.Make(n, 1, nil)
		assert.ErrorContains(t, err, "1 to 120000")
	}
	_, err := demo.Make(5, 1, func(string, []byte) error { return os.ErrPermission })
	assert.ErrorIs(t, err, os.ErrPermission)
}

func TestCompare(t *testing.T) {
	faults := []demo.Fault{{Check: "a/b", Gateway: "g", Tunnel: "t"}, {Check: "c/d", Tunnel: "t"}}
	found := []demo.Fault{{Check: "a/b", Gateway: "g", Tunnel: "t"}, {Check: "a/b", Gateway: "h", Tunnel: "t"}}
	missed, wrong := demo.Compare(faults, found)
	assert.Equal(t, faults[1:], missed)
	assert.Equal(t, found[1:], wrong)
}
