package estate_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/estate/estatetest"
	"toril/internal/cache"
	"toril/pair"
	"toril/read/formats"
)

var conn, file = estatetest.Conn, estatetest.File

// load reads an estate whole: what its gateways say is looked at too.
func load(t *testing.T, fsys fstest.MapFS) *pair.Whole {
	e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	return e
}

func TestFolderWithBrokenFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("gate/swanctl.conf", conn("x", "192.0.2.1", "192.0.2.2", "", "", "", ""))
	write("gate/cut.conf", "connections {\n y {\n local_addrs = 192.0.2.3\n remote_")
	write("gate/image.bin", "\x7fELF\x00\x00\x01")
	write("gate/empty.conf", "")
	write("gate/notes.txt", "call the harbour office on Monday\n")
	require.NoError(t, os.Symlink("/nowhere", filepath.Join(dir, "gate/gone.conf")))
	e, err := estate.Load(
		context.Background(),
		[]string{filepath.Join(dir, "gate"), filepath.Join(dir, "missing")},
		estate.Options{Formats: formats.All()},
	)
	require.NoError(t, err)
	var got []string
	for _, p := range e.Problems {
		got = append(got, strings.TrimPrefix(p.Error(), filepath.ToSlash(dir)+"/"))
	}
	assert.Equal(t, []string{
		`gate/cut.conf:4: neither a value nor a section follows the name`,
		"gate/gone.conf: cannot be read: it leads out of the folder that is read",
		"gate/image.bin: not read: it is a binary file",
		"gate/notes.txt: not read: it is in no format that toril knows (see: toril formats, toril phrasebook)",
		"missing: cannot be read: no such file or directory",
	}, slices.Sorted(slices.Values(got)))
	require.Len(t, e.LeftOut, 1)
	assert.Equal(t, "it is empty", e.LeftOut[0].Why)
	require.Len(t, e.Gateways, 1)
	assert.Len(t, e.Gateways[0].Connections, 2, "the rest is still read")
}

func TestWhatIsAGateway(t *testing.T) {
	dir := t.TempDir()
	text := []byte(conn("x", "192.0.2.1", "192.0.2.2", "", "", "", ""))
	for _, name := range []string{"estate/a/swanctl.conf", "estate/b/etc/swanctl/swanctl.conf", "estate/c.conf", "lone/swanctl.conf"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o644))
	}
	for path, want := range map[string][]string{
		"estate":            {"a", "b", "c"},
		"estate/b":          {"b"},
		"lone":              {"lone"},
		"lone/swanctl.conf": {"lone"},
		"estate/c.conf":     {"c"},
	} {
		e, err := estate.Load(context.Background(), []string{filepath.Join(dir, path)}, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		var got []string
		for _, g := range e.Gateways {
			got = append(got, g.Name)
		}
		assert.Equal(t, want, got, path)
	}
}

// TestFound: before gateways are read, it is told how many there are, and how much about is going to be read.
func TestFound(t *testing.T) {
	dir := t.TempDir()
	for i := range 40 {
		gateway := filepath.Join(dir, fmt.Sprintf("g%02d", i))
		require.NoError(t, os.MkdirAll(gateway, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(gateway, "ip-route.txt"), []byte("default via 192.0.2.1 dev wan0\n"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(gateway, "notes.txt"), bytes.Repeat([]byte("x"), 1000), 0o644))
	}
	kept := t.TempDir()
	found := func(c *cache.Cache) (gateways int, size int64) {
		_, err := estate.Load(t.Context(), []string{dir}, estate.Options{
			Formats: formats.All(), Cache: c, Found: func(n int, bytes int64) { gateways, size = n, bytes },
		})
		require.NoError(t, err)
		return gateways, size
	}
	n, size := found(nil)
	assert.Equal(t, 40, n)
	assert.EqualValues(t, 40*1031, size)

	for _, want := range []int64{40 * 1031, 0} { // the second time all is there
		c, err := cache.Open(kept)
		require.NoError(t, err)
		n, size = found(c)
		assert.Equal(t, 40, n)
		assert.Equal(t, want, size)
		require.NoError(t, c.Close())
	}
	_, err := estate.Load(t.Context(), nil, estate.Options{Found: func(n int, bytes int64) { assert.Zero(t, n+int(bytes)) }})
	require.NoError(t, err)
}
