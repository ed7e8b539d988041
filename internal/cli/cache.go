package cli

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"sync"

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

// keep begins to put what this run asked of the cache in its place, beside what else is to be done.
func (a *app) keep() {
	if a.cache != nil {
		a.kept = sync.OnceValue(a.cache.Close)
		go a.kept()
	}
}

// close ends the use of the cache: it then holds what this run asked of it, or, where that failed, what it held before.
func (a *app) close(failed error) error {
	switch {
	case a.cache == nil:
		return failed
	case a.kept != nil:
		return cmp.Or(failed, a.kept())
	case failed != nil:
		a.cache.Drop()
		return failed
	}
	return a.cache.Close()
}

// program is a digest of what reads and judges: the program itself; and one of the phrasebooks that it was given.
func (a *app) program() (program, books cache.Digest, err error) {
	path, err := os.Executable()
	if err != nil {
		return program, books, fmt.Errorf("the program does not find itself, and so keeps nothing: %w", err)
	}
	build, err := buildOf(path)
	if err != nil {
		return program, books, fmt.Errorf("the program cannot be read, and so keeps nothing: %w", err)
	}
	s := cache.NewSum("program")
	s.Bytes(build)
	program = s.Digest()
	s = cache.NewSum("books")
	for _, name := range append(usersBooks(), a.books...) {
		data, err := disk.ReadFile(name, strictyaml.MaxBytes)
		s.Text(name, fmt.Sprint(err))
		s.Bytes(data)
	}
	return program, s.Digest(), nil
}

// buildOf tells a program from every other: by the digest that Go's linker wrote near its beginning, as a note of ELF, else by one of all
// its bytes, which takes longer.
func buildOf(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, 64<<10)
	n, _ := f.ReadAt(head, 0) // a short program has less
	head = head[:n]
	const kind = "\x04\x00\x00\x00Go\x00\x00" // of the note, and its owner; the length of what it says stands before
	if at := bytes.Index(head, []byte(kind)); at >= 4 {
		size, from := int(binary.LittleEndian.Uint32(head[at-4:])), at+len(kind)
		if size > 64 && size < 1<<10 && from+size <= len(head) { // the digests of what it is made of, and of what it is
			return head[from : from+size], nil
		}
	}
	h := sha256.New()
	_, err = io.Copy(h, f)
	return h.Sum(nil), err
}
