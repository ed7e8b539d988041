package estate_test

import (
	"context"
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
