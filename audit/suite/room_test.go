package suite_test

import (
	"context"
	"io/fs"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

// TestFindingsDoNotDependOnWhatIsKept: the same is found where every gateway stays in memory, where none does, and on one processor.
func TestFindingsDoNotDependOnWhatIsKept(t *testing.T) {
	estates := map[string]fs.FS{"demo": demo.Estate()}
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	for _, file := range files {
		ar, err := txtar.ParseFile(file)
		require.NoError(t, err)
		estates[filepath.Base(file)], err = txtar.FS(ar)
		require.NoError(t, err)
	}
	b, err := baseline.Named("nist")
	require.NoError(t, err)
	asked := func(t *testing.T, fsys fs.FS, room int64, again bool) *audit.Result {
		e, err := pair.LoadFS(context.Background(), fsys, estate.Options{Formats: formats.All(), Room: room, Again: again})
		require.NoError(t, err)
		r, err := audit.Run(context.Background(), e, suite.All(), b, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		return r
	}
	for name, fsys := range estates {
		t.Run(name, func(t *testing.T) {
			kept := asked(t, fsys, 1<<30, false)
			for _, again := range []bool{false, true} { // all of it is read twice, or the first time only a part
				let := asked(t, fsys, 1, again)
				assert.Equal(t, kept.Findings, let.Findings)
				assert.Equal(t, kept.NotGiven, let.NotGiven)
				assert.Equal(t, kept.Estate.Problems, let.Estate.Problems)
				assert.Equal(t, kept.Estate.LeftOut, let.Estate.LeftOut)
				assert.Equal(t, kept.Estate.Read, let.Estate.Read)
				for i, f := range kept.Estate.Gateways {
					assert.Equal(t, f.Files, let.Estate.Gateways[i].Files)
				}
			}
			before := runtime.GOMAXPROCS(1)
			defer runtime.GOMAXPROCS(before)
			assert.Equal(t, kept.Findings, asked(t, fsys, 1, true).Findings)
		})
	}
}

// TestMatchesAreTheirTunnels: what is told of a tunnel from what is kept of its gateways is what they themselves tell.
func TestMatchesAreTheirTunnels(t *testing.T) {
	files, err := filepath.Glob("testdata/cases/*.txtar")
	require.NoError(t, err)
	seen := 0
	for _, file := range files {
		fsys, _ := caseFiles(t, file)
		w, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		for i, m := range w.Matches {
			tunnel := w.Tunnels[i]
			require.Len(t, tunnel.Ends, len(m.Sides))
			assert.Equal(t, tunnel.Between(), m.Between())
			for k, end := range tunnel.Ends {
				seen++
				assert.Equal(t, end.Name(), m.Sides[k].Name())
				assert.Equal(t, tunnel.Own(end), m.Own(k), m.Name)
				assert.Equal(t, tunnel.Peer(end), m.Peer(k), m.Name)
				assert.True(t, m.Sides[k].Of(end.Gateway, end.Connection))
				assert.Contains(t, w.MatchesOf(end.Gateway), m)
				assert.Contains(t, w.TunnelsOf(end.Gateway), tunnel)
				if len(tunnel.Ends) == 1 {
					far, given := tunnel.Far(end)
					assert.False(t, given)
					assert.Nil(t, far.Connection)
				}
			}
		}
	}
	assert.Greater(t, seen, 300)
}
