package cli_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNothingIsWrittenOverWhatIsRead: an output that is an input, however it is called, and folders to write to that lie in the estate.
func TestNothingIsWrittenOverWhatIsRead(t *testing.T) {
	_, estate := someEstate(t)
	file := filepath.Join(estate, "skerry", "swanctl.conf")
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	link := filepath.Join(t.TempDir(), "link.json")
	require.NoError(t, os.Symlink(file, link))
	other := filepath.Join(t.TempDir(), "folder")
	require.NoError(t, os.Symlink(estate, other))
	rules := filepath.Join(t.TempDir(), "rules.yaml")
	require.NoError(t, os.WriteFile(rules, []byte("name: x\nextends: sound\n"), 0o600))
	for _, args := range [][]string{
		{"audit", estate, "-o", file, "--format", "json"},
		{"audit", estate, "-o", link},
		{"audit", estate, "-o", filepath.Join(other, "skerry", "swanctl.conf"), "--format", "json"},
		{"audit", file, "-o", file, "--format", "json"},
		{"audit", estate, "--baseline", rules, "-o", rules, "--format", "json"},
		{"audit", file, "--phrasebook", rules, "-o", rules, "--format", "json"},
		{"audit", estate, "--cache", filepath.Join(estate, "kept")},
		{"audit", other, "--cache", filepath.Join(estate, "skerry")},
		{"fix", estate, "--apply", filepath.Join(estate, "fixed")},
	} {
		code, out, errs := toril(t, args...)
		assert.Equal(t, 2, code, args)
		assert.Empty(t, out, args)
		assert.Contains(t, errs, "what is read", args)
	}
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	code, _, errs := toril(t, "audit", estate, "-o", filepath.Join(t.TempDir(), "new.json"))
	assert.Contains(t, []int{0, 1}, code, errs)
}

// TestAPipeForACache: a pipe in place of the cache's file keeps nobody waiting.
func TestAPipeForACache(t *testing.T) {
	_, estate := someEstate(t)
	kept := t.TempDir()
	_, _, _ = toril(t, "audit", estate, "--cache", kept)
	files, err := os.ReadDir(kept)
	require.NoError(t, err)
	require.Len(t, files, 1)
	pipe := filepath.Join(kept, files[0].Name())
	require.NoError(t, os.Remove(pipe))
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	_, want, _ := toril(t, "audit", estate)
	_, got, _ := toril(t, "audit", estate, "--cache", kept)
	assert.Equal(t, want, got)
}
