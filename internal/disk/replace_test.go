package disk

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReplaceIsWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "out.txt")
	put := func(text string, err error) func(io.Writer) error {
		return func(w io.Writer) error {
			_, _ = io.WriteString(w, text)
			return err
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, Replace(ctx, name, put("one", nil)))
	require.NoError(t, os.Chmod(name, 0o600))
	require.NoError(t, Replace(ctx, name, put("two", nil)))
	info, err := os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "a file keeps who may read it")
	broken := errors.New("broken")
	assert.ErrorIs(t, Replace(ctx, name, put("half", broken)), broken)
	err = Replace(ctx, name, func(w io.Writer) error {
		_, _ = io.WriteString(w, "half")
		cancel() // Ctrl-C while it is written
		return nil
	})
	assert.ErrorIs(t, err, context.Canceled)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, "two", string(data), "what was there stays")
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing is left behind")
	assert.ErrorContains(t, Replace(context.Background(), filepath.Join(dir, "no", "x"), put("", nil)), "cannot be written")
	require.NoError(t, Replace(context.Background(), "/dev/null", put("x", nil)))
	info, err = os.Stat("/dev/null")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeDevice, "a device is written to, not replaced")
}
