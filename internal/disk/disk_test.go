package disk_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/disk"
)

// TestOnlyRegularFilesAreOpened, and nothing waits for another.
func TestOnlyRegularFilesAreOpened(t *testing.T) {
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("elsewhere"), 0o600))
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("plain"), []byte("text"), 0o600))
	require.NoError(t, os.Mkdir(at("below"), 0o700))
	require.NoError(t, os.WriteFile(at("below/more"), []byte("more"), 0o600))
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	for name, to := range map[string]string{"inside": "below/more", "out": filepath.Join(outside, "secret"),
		"up": "../../../../../../etc/passwd", "null": "/dev/null", "topipe": "pipe", "kernel": "/proc/version", "loop": "loop",
		"gone": "nowhere"} {
		require.NoError(t, os.Symlink(to, at(name)))
	}
	fsys, err := disk.Folder(dir)
	require.NoError(t, err)
	for name, want := range map[string]string{"plain": "text", "inside": "more", "below/more": "more"} {
		data, err := disk.Read(fsys, name, 100)
		assert.NoError(t, err, name)
		assert.Equal(t, want, string(data), name)
	}
	for name, want := range map[string]string{"pipe": "it is a named pipe", "topipe": "it is a named pipe",
		"out": "it leads out of the folder that is read", "up": "it leads out of the folder that is read",
		"null":   "it leads out of the folder that is read",
		"kernel": "it leads out of the folder that is read"} {
		_, err := disk.Read(fsys, name, 100)
		assert.EqualError(t, err, want, name)
		_, err = fs.Stat(fsys, name)
		assert.EqualError(t, err, want, name)
	}
	for _, name := range []string{"loop", "gone", "../plain", "/etc/passwd", "below"} {
		_, err := disk.Read(fsys, name, 100)
		assert.Error(t, err, name)
	}
	_, err = disk.Read(fsys, "plain", 3)
	assert.ErrorIs(t, err, disk.ErrTooLarge)
	below, err := fs.Sub(fsys, "below")
	require.NoError(t, err)
	require.NoError(t, os.Symlink("../plain", at("below/beside")))
	require.NoError(t, os.Symlink("../../plain", at("below/outside")))
	for range 2 { // as it is, and held open: a link leads to wherever the whole folder has something
		for name, want := range map[string]string{"more": "more", "beside": "text"} {
			data, err := disk.Read(below, name, 100)
			assert.NoError(t, err, name)
			assert.Equal(t, want, string(data), name)
		}
		_, err = disk.Read(below, "outside", 100)
		assert.EqualError(t, err, "it leads out of the folder that is read")
		_, err = disk.Read(below, "../plain", 100)
		assert.Error(t, err)
		entries, err := fs.ReadDir(below, ".")
		require.NoError(t, err)
		assert.Len(t, entries, 3)
		info, err := fs.Stat(below, ".")
		require.NoError(t, err)
		assert.True(t, info.IsDir())
		held, done := disk.Hold(below)
		defer done()
		below = held
	}
	require.NoError(t, os.Remove(at("below/more")))
	require.NoError(t, syscall.Mkfifo(at("below/more"), 0o600))
	_, err = disk.Read(below, "more", 100)
	assert.EqualError(t, err, "it is a named pipe", "held open, it has become one")
	require.NoError(t, os.Mkdir(at("deep"), 0o700))
	require.NoError(t, os.Symlink("../below", at("deep/linked")))
	linked, err := fs.Sub(fsys, "deep/linked")
	require.NoError(t, err)
	for range 2 { // a folder that a link leads to, which cannot be held
		data, err := disk.Read(linked, "beside", 100)
		assert.NoError(t, err)
		assert.Equal(t, "text", string(data))
		entries, err := fs.ReadDir(linked, ".")
		require.NoError(t, err)
		assert.Len(t, entries, 3)
		held, done := disk.Hold(linked)
		defer done()
		linked = held
	}
	room := make([]byte, 0, 100)
	data, err := disk.ReadInto(room, fsys, "plain", 100)
	require.NoError(t, err)
	assert.Same(t, &room[:1][0], &data[0], "it is in the room that was given")
	entries, err := fs.ReadDir(fsys, ".")
	require.NoError(t, err)
	assert.Len(t, entries, 12)
}

// TestPathsThatAreGiven may be links, and devices and the kernel's files are refused all the same.
func TestPathsThatAreGiven(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plain"), []byte("text"), 0o600))
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(filepath.Join(dir, "plain"), link))
	data, err := disk.ReadFile(link, 100)
	require.NoError(t, err)
	assert.Equal(t, "text", string(data))
	for path, want := range map[string]string{"/dev/zero": "it is a device", "/proc/kmsg": "",
		"/proc/self/status": "it is a file of the running kernel, not a saved " +
			"one"} {
		_, err := disk.ReadFile(path, 100)
		require.Error(t, err, path)
		if want != "" {
			assert.EqualError(t, err, want)
		}
	}
	_, err = disk.ReadFile(filepath.Join(dir, "none"), 100)
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

// TestAFolderIsListedAsTheSystemDoes: everything in it, of which kind, at the top and below.
func TestAFolderIsListedAsTheSystemDoes(t *testing.T) {
	dir := t.TempDir()
	below := filepath.Join(dir, "below")
	require.NoError(t, os.Mkdir(below, 0o700))
	for i := range 700 {
		require.NoError(t, os.WriteFile(filepath.Join(below, fmt.Sprintf("file-with-a-name-%03d", i)), make([]byte, i), 0o600))
	}
	require.NoError(t, syscall.Mkfifo(filepath.Join(below, "pipe"), 0o600))
	require.NoError(t, os.Symlink("pipe", filepath.Join(below, "link")))
	require.NoError(t, os.Symlink("gone", filepath.Join(below, "nowhere")))
	require.NoError(t, os.Mkdir(filepath.Join(below, ".hidden"), 0o700))
	fsys, err := disk.Folder(dir)
	require.NoError(t, err)
	sub, err := fs.Sub(fsys, "below")
	require.NoError(t, err)
	for _, c := range []struct {
		fsys       fs.FS
		name, path string
	}{{fsys, ".", dir}, {fsys, "below", below}, {sub, ".", below}, {sub, ".hidden", filepath.Join(below, ".hidden")}} {
		want, err := os.ReadDir(c.path)
		require.NoError(t, err)
		got, err := fs.ReadDir(c.fsys, c.name)
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i := range want {
			assert.Equal(t, want[i].Name(), got[i].Name())
			assert.Equal(t, want[i].Type(), got[i].Type(), got[i].Name())
			assert.Equal(t, want[i].IsDir(), got[i].IsDir(), got[i].Name())
			is, err := want[i].Info()
			require.NoError(t, err)
			info, err := got[i].Info()
			require.NoError(t, err, got[i].Name())
			assert.Equal(t, is.Size(), info.Size(), got[i].Name())
		}
	}
	_, err = fs.ReadDir(fsys, "none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = fs.ReadDir(sub, "link")
	assert.Error(t, err)
}
