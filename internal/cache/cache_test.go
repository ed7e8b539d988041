package cache_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/cache"
)

func digest(text string) cache.Digest {
	s := cache.NewSum("test")
	s.Text(text)
	return s.Digest()
}

func TestWhatWasPutIsThereNextTime(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new")
	c, err := cache.Open(dir)
	require.NoError(t, err)
	_, ok := c.Get(digest("a"))
	assert.False(t, ok)
	assert.True(t, c.Empty())
	c.Put(digest("a"), []byte("the first answer"))
	c.Put(digest("b"), nil)
	c.Put(digest("c"), bytes.Repeat([]byte("x"), 100_000))
	salt := c.Salt()
	require.NoError(t, c.Close())

	c, err = cache.Open(dir)
	require.NoError(t, err)
	assert.Equal(t, salt, c.Salt())
	assert.False(t, c.Empty())
	got, ok := c.Get(digest("a"))
	assert.True(t, ok)
	assert.Equal(t, "the first answer", string(got))
	_, ok = c.Get(digest("z"))
	assert.False(t, ok)
	require.NoError(t, c.Close())

	c, err = cache.Open(dir) // what nobody asked for is gone
	require.NoError(t, err)
	_, ok = c.Get(digest("b"))
	assert.False(t, ok)
	_, ok = c.Get(digest("a"))
	assert.True(t, ok)
	c.Drop()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing is left over")
}

func TestAnotherOwnersEntriesAreClosed(t *testing.T) {
	dir := t.TempDir()
	c, err := cache.Open(dir)
	require.NoError(t, err)
	c.Put(digest("a"), []byte("a quotation of a configuration"))
	require.NoError(t, c.Close())
	data, err := os.ReadFile(filepath.Join(dir, "toril-1.cache"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "quotation")
	d := digest("a")
	assert.NotContains(t, string(data), string(d[:8]))
}

// TestDamage: whatever byte is changed, an entry is the right one or none.
func TestDamage(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "toril-1.cache")
	c, err := cache.Open(dir)
	require.NoError(t, err)
	c.Put(digest("a"), []byte("answer"))
	require.NoError(t, c.Close())
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	for i := range whole {
		for _, damaged := range [][]byte{whole[:i], append(append(bytes.Clone(whole[:i]), whole[i]^0x41), whole[i+1:]...)} {
			require.NoError(t, os.WriteFile(file, damaged, 0o600))
			c, err := cache.Open(dir)
			require.NoError(t, err)
			if got, ok := c.Get(digest("a")); ok {
				require.Equal(t, "answer", string(got), i)
			}
			c.Drop()
		}
	}
}

func TestAFolderThatCannotBeUsed(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := cache.Open(file)
	assert.ErrorContains(t, err, "the cache cannot be used")
}

func TestPartsAreToldApart(t *testing.T) {
	one, other := cache.NewSum("p"), cache.NewSum("p")
	one.Text("ab", "c")
	other.Text("a", "bc")
	assert.NotEqual(t, one.Digest(), other.Digest())
}
