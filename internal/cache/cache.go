// Package cache keeps what was worked out, in one file of a folder, to be found again by the digest of all that it was worked out from. A
// digest that is the same means an answer that is the same; whatever else the file holds is passed over.
//
// Each entry is encrypted by a key that is derived from that digest (BLAKE2b, AES-256-GCM). So whoever has the file, and not the
// configurations that it was made of, learns nothing from it; and an entry that was changed is no entry.
package cache

import (
	"bufio"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"golang.org/x/crypto/blake2b"
)

// Digest is of all that an entry was worked out from.
type Digest [32]byte

// name is of the file in the folder; a file of another layout has another name.
const name = "toril-1.cache"

// magic is what the file begins and ends with.
const magic = "toril cache 1\n"

// Cache is an open cache. Its methods may be called from several goroutines.
type Cache struct {
	dir  string
	salt [32]byte
	old  *os.File // nil where there was none
	have map[[16]byte]place

	mu    sync.Mutex
	next  *os.File
	room  *bufio.Writer // what is on its way to next
	at    int64
	kept  map[[16]byte]place
	wrong error // the first that went wrong in writing
}

// place is where an entry is in a file.
type place struct {
	at   int64
	size uint32
}

// Open opens the cache of a folder, made where it is not there. A file that is damaged counts as none. The error says that the folder
// cannot be used.
func Open(dir string) (*Cache, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the cache cannot be used: %w", err)
	}
	c := &Cache{dir: dir, kept: map[[16]byte]place{}}
	if !c.load() {
		c.have = nil
		rand.Read(c.salt[:]) // never fails (crypto/rand)
	}
	next, err := os.CreateTemp(dir, ".next-*") // for its owner only
	if err != nil {
		c.discard()
		return nil, fmt.Errorf("the cache cannot be used: %w", err)
	}
	c.next, c.room = next, bufio.NewWriterSize(next, 1<<18)
	c.append([]byte(magic))
	c.append(c.salt[:])
	return c, nil
}

// load reads the places of all entries; false where there are none.
func (c *Cache) load() bool {
	f, err := os.OpenFile(filepath.Join(c.dir, name), os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe would wait for a writer
	if err != nil {
		return false
	}
	c.old = f
	info, err := f.Stat()
	const ends = 8 + len(magic)
	if err != nil || !info.Mode().IsRegular() || info.Size() < int64(len(magic)+32+ends) {
		return false
	}
	head, tail := make([]byte, len(magic)+32), make([]byte, ends)
	if _, err := f.ReadAt(head, 0); err != nil || string(head[:len(magic)]) != magic {
		return false
	}
	if _, err := f.ReadAt(tail, info.Size()-int64(ends)); err != nil || string(tail[8:]) != magic {
		return false
	}
	copy(c.salt[:], head[len(magic):])
	from := int64(binary.BigEndian.Uint64(tail))
	size := info.Size() - int64(ends) - from
	const each = 16 + 8 + 4
	if from < int64(len(head)) || size < 0 || size%each != 0 {
		return false
	}
	list := make([]byte, size)
	if _, err := f.ReadAt(list, from); err != nil {
		return false
	}
	c.have = make(map[[16]byte]place, size/each)
	for ; len(list) > 0; list = list[each:] {
		p := place{int64(binary.BigEndian.Uint64(list[16:])), binary.BigEndian.Uint32(list[24:])}
		if p.at < int64(len(head)) || p.at+int64(p.size) > from {
			return false
		}
		c.have[[16]byte(list)] = p
	}
	return true
}

// Empty reports whether nothing was in the cache when it was opened.
func (c *Cache) Empty() bool { return len(c.have) == 0 }

// Salt is what digests of secrets in entries are salted with: the same for all of a cache's, and of no other's.
func (c *Cache) Salt() [32]byte { return c.salt }

// derive makes a value of a digest for one use.
func (c *Cache) derive(d Digest, use string) [32]byte {
	var room [128]byte // a block of the hash: it is done in one step
	return blake2b.Sum256(append(append(append(room[:0], use...), c.salt[:]...), d[:]...))
}

// lock makes the cipher of an entry. Its key serves one text only, the same each time, so that the nonce may be the same.
func (c *Cache) lock(d Digest) cipher.AEAD {
	key := c.derive(d, "key")
	block, err := aes.NewCipher(key[:])
	if err != nil {
		panic(err) // the key has the right length
	}
	sealed, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // the block too
	}
	return sealed
}

// Get returns the entry of a digest; ok is false where there is none. It stays in the cache.
func (c *Cache) Get(d Digest) (data []byte, ok bool) {
	id := c.derive(d, "name")
	p, ok := c.have[[16]byte(id[:16])]
	if !ok {
		return nil, false
	}
	text := make([]byte, p.size)
	if _, err := c.old.ReadAt(text, p.at); err != nil {
		return nil, false
	}
	lock := c.lock(d)
	data, err := lock.Open(nil, make([]byte, lock.NonceSize()), text, nil)
	if err != nil {
		return nil, false
	}
	c.keep([16]byte(id[:16]), text)
	return data, true
}

// Put adds the entry of a digest.
func (c *Cache) Put(d Digest, data []byte) {
	id, lock := c.derive(d, "name"), c.lock(d)
	c.keep([16]byte(id[:16]), lock.Seal(nil, make([]byte, lock.NonceSize()), data, nil))
}

// keep writes an entry into the file that is to be.
func (c *Cache) keep(id [16]byte, text []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, again := c.kept[id]; again {
		return
	}
	c.kept[id] = place{c.at, uint32(len(text))}
	c.append(text)
}

func (c *Cache) append(text []byte) {
	n, err := c.room.Write(text)
	c.at += int64(n)
	c.wrong = errors.Join(c.wrong, err)
}

// Close puts what was asked for or added in this run in the place of what was there.
func (c *Cache) Close() error {
	from := c.at
	var list []byte
	for id, p := range c.kept {
		list = append(list, id[:]...)
		list = binary.BigEndian.AppendUint64(list, uint64(p.at))
		list = binary.BigEndian.AppendUint32(list, p.size)
	}
	list = binary.BigEndian.AppendUint64(list, uint64(from))
	c.append(append(list, magic...))
	err := errors.Join(c.wrong, c.room.Flush(), c.next.Close())
	if err == nil {
		err = os.Rename(c.next.Name(), filepath.Join(c.dir, name))
	}
	c.discard()
	if err != nil {
		return fmt.Errorf("the cache could not be written: %w", err)
	}
	return nil
}

// Drop leaves the cache as it was.
func (c *Cache) Drop() {
	_ = c.next.Close() // it goes
	c.discard()
}

// discard lets go of the files that are open.
func (c *Cache) discard() {
	if c.next != nil {
		_ = os.Remove(c.next.Name()) // where it was renamed it is gone already
	}
	if c.old != nil {
		_ = c.old.Close() // it was only read
	}
}

// newHash begins a BLAKE2b with 32 bytes of output (RFC 7693): of every byte of an estate one is made in every run.
func newHash() hash.Hash {
	h, err := blake2b.New256(nil)
	if err != nil {
		panic(err) // of a key, and there is none
	}
	return h
}

// Sum is a digest in the making, of parts that are told apart.
type Sum struct {
	h    hash.Hash
	room []byte // of the part that is being added
}

// NewSum begins one for a purpose.
func NewSum(purpose string) *Sum {
	s := &Sum{h: newHash()}
	s.Text(purpose)
	return s
}

// Bytes adds a part.
func (s *Sum) Bytes(part []byte) {
	s.room = s.sized(len(part))
	s.h.Write(s.room)
	s.h.Write(part)
}

// Text adds parts that are texts.
func (s *Sum) Text(parts ...string) {
	for _, p := range parts {
		s.room = append(s.sized(len(p)), p...)
		s.h.Write(s.room)
	}
}

// sized is what stands before a part of so many bytes.
func (s *Sum) sized(n int) []byte { return binary.BigEndian.AppendUint64(s.room[:0], uint64(n)) }

// Digest is the sum of all parts so far.
func (s *Sum) Digest() Digest { return Digest(s.h.Sum(nil)) }
