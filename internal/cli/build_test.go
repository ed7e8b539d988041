package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatTellsAProgramFromOthers(t *testing.T) {
	own, err := os.Executable()
	require.NoError(t, err)
	mine, err := buildOf(own)
	require.NoError(t, err)
	assert.NotEmpty(t, mine)
	one, other := filepath.Join(t.TempDir(), "one"), filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.WriteFile(one, []byte("a"), 0o600))
	require.NoError(t, os.WriteFile(other, []byte("b"), 0o600))
	a, err := buildOf(one)
	require.NoError(t, err)
	b, err := buildOf(other)
	require.NoError(t, err)
	assert.NotEqual(t, a, b, "where the linker wrote nothing, all bytes tell")
	_, err = buildOf(filepath.Join(t.TempDir(), "none"))
	assert.Error(t, err)
}
