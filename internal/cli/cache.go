package cli

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"

	"toril/internal/cache"
	"toril/internal/disk"
	"toril/internal/strictyaml"
	"toril/source"
)

// openCache opens the cache that --cache names, and has equal secrets known as equal from one run to the next; nil where none is asked for.
func (a *app) openCache(dir string) (*cache.Cache, error) {
	if dir == "" {
		return nil, nil
	}
	c, err := cache.Open(dir)
	if err != nil {
		return nil, err
	}
	source.KeyFingerprints(c.Salt())
	return c, nil
}

// close ends the use of the cache: it then holds what this run asked of it, or, where the run failed, what it held before.
func (a *app) close(failed error) error {
	if a.cache == nil {
		return failed
	}
	if failed != nil {
		a.cache.Drop()
		return failed
	}
	return a.cache.Close()
}

// program is a digest of what reads and judges: the program itself, and the phrasebooks that it was given.
func (a *app) program() (d cache.Digest, err error) {
	path, err := os.Executable()
	if err != nil {
		return d, fmt.Errorf("the program does not find itself, and so keeps nothing: %w", err)
	}
	f, err := os.Open(path)
	if err != nil {
		return d, fmt.Errorf("the program cannot be read, and so keeps nothing: %w", err)
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return d, fmt.Errorf("the program cannot be read, and so keeps nothing: %w", err)
	}
	s := cache.NewSum("program")
	s.Bytes(h.Sum(nil))
	for _, name := range append(usersBooks(), a.books...) {
		data, err := disk.ReadFile(name, strictyaml.MaxBytes)
		s.Text(name, fmt.Sprint(err))
		s.Bytes(data)
	}
	return s.Digest(), nil
}
