package estate_test

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/read/formats"
)

// TestNamesDoNotDependOnTheOrder: gateways of one name are called by their folders, whichever path comes first; what is given twice
// is read once.
func TestNamesDoNotDependOnTheOrder(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	for _, name := range []string{"north/gate/swanctl.conf", "south/gate/swanctl.conf", "north/fw.conf", "south/fw.conf",
		"south/other.conf"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte("connections {\n a {\n  remote_addrs = 192.0.2.1\n }\n}\n"), 0o644))
	}
	require.NoError(t, os.Symlink("north", "link"))
	names := func(paths ...string) (names []string, files int) {
		e, err := estate.Load(context.Background(), paths, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		require.Empty(t, e.Problems)
		for _, g := range e.Gateways {
			names = append(names, g.Name)
		}
		return names, e.Read
	}
	for _, c := range []struct{ paths, want []string }{
		{[]string{"north/gate", "south/gate"}, []string{"north/gate", "south/gate"}},
		{[]string{"south/gate", "north/gate"}, []string{"north/gate", "south/gate"}},
		{[]string{"south/fw.conf", "north/fw.conf", "south/other.conf"}, []string{"north/fw", "other", "south/fw"}},
		{[]string{"north/gate", "north/gate", "./north/gate/", filepath.Join(dir, "north/gate"), "link/gate"}, []string{"gate"}},
		{[]string{"north/fw.conf", "north"}, []string{"fw", "gate"}},
		{[]string{"south", "north"}, []string{"north/fw", "north/gate", "other", "south/fw", "south/gate"}},
	} {
		got, files := names(c.paths...)
		assert.Equal(t, c.want, got, "%v", c.paths)
		assert.Equal(t, len(c.want), files, "%v", c.paths)
	}
}

// TestWhatIsNoFile: pipes, devices and links that lead elsewhere are named and left out, wherever they stand, and nothing waits.
func TestWhatIsNoFile(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(t.TempDir(), "shadow")
	require.NoError(t, os.WriteFile(outside, []byte("connections {\n stolen {\n }\n}\n"), 0o644))
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.MkdirAll(at("g/conf.d"), 0o755))
	require.NoError(t, os.WriteFile(at("g/swanctl.conf"), []byte("connections {\n a {\n }\n}\ninclude conf.d/*\n"), 0o644))
	require.NoError(t, syscall.Mkfifo(at("g/conf.d/pipe.conf"), 0o644))
	require.NoError(t, os.Symlink(outside, at("g/conf.d/out.conf")))
	require.NoError(t, os.Symlink(outside, at("toril.yaml")))
	require.NoError(t, syscall.Mkfifo(at("g/pack.tar.gz"), 0o644))
	e, err := estate.Load(context.Background(), []string{dir}, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	said := ""
	for _, p := range e.Problems {
		said += p.Error() + "\n"
	}
	for _, want := range []string{"pipe.conf: cannot be read: it is a named pipe", "out.conf: cannot be read: it leads out of the " +
		"folder", "toril.yaml: cannot be read: it leads out of the " +
		"folder", "pack.tar.gz: cannot be read: it is a named pipe"} {
		assert.Contains(t, said, want)
	}
	require.Len(t, e.Gateways, 1)
	assert.Len(t, e.Gateways[0].Connections, 1)
}
