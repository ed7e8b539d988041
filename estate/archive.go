package estate

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"toril/source"
)

// The bounds of archives: bytes of all that are unpacked in one run, entries of one, and how deep they hold each other.
const (
	MaxUnpacked = 128 << 20
	maxEntries  = 100_000
	maxArchives = 3
)

// isArchive tells by its name whether a file is an archive that is read in place.
func isArchive(name string) bool {
	name = strings.ToLower(name)
	for _, ext := range []string{".tar", ".tar.gz", ".tgz", ".zip"} {
		if strings.HasSuffix(name, ext) {
			return true
		}
	}
	return false
}

// archiveName is the name of an archive without its endings.
func archiveName(name string) string {
	name = path.Base(name)
	for _, ext := range []string{".gz", ".tgz", ".tar", ".zip"} {
		if strings.HasSuffix(strings.ToLower(name), ext) {
			name = name[:len(name)-len(ext)]
		}
	}
	return name
}

// unpack opens an archive in memory. Entries that are no plain files, or whose names lead outside, are left out and
// named by problem.
func unpack(data []byte, budget *int64, problem func(format string, args ...any)) (fs.FS, error) {
	var buf bytes.Buffer
	out := &packer{zip: zip.NewWriter(&buf), budget: budget, problem: problem, seen: map[string]bool{}}
	var err error
	if bytes.HasPrefix(data, []byte("PK")) {
		err = out.fromZip(data)
	} else {
		err = out.fromTar(data)
	}
	if err != nil && out.entries == 0 {
		return nil, err
	}
	if err != nil {
		problem("the archive is broken; what was before the break is read: %v", err)
	}
	if err := out.zip.Close(); err != nil {
		return nil, err
	}
	return zip.NewReader(bytes.NewReader(buf.Bytes()), int64(buf.Len()))
}

// packer writes the entries of an archive of any kind into one plain kind, which Go reads as a file system.
type packer struct {
	zip     *zip.Writer
	budget  *int64
	problem func(format string, args ...any)
	seen    map[string]bool
	entries int
}

var errTooLarge = errors.New("the archives hold more than is read in one run")

func (p *packer) fromZip(data []byte) error {
	r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return fmt.Errorf("it is not a zip archive: %w", err)
	}
	for _, f := range r.File {
		if f.FileInfo().IsDir() {
			continue
		}
		if !f.Mode().IsRegular() {
			p.problem("entry %q is no plain file and was left out", source.Clean(f.Name))
			continue
		}
		body, err := f.Open()
		if err != nil {
			return err
		}
		err = p.add(f.Name, body)
		body.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *packer) fromTar(data []byte) error {
	var r io.Reader = bytes.NewReader(data)
	if bytes.HasPrefix(data, []byte{0x1f, 0x8b}) {
		z, err := gzip.NewReader(r)
		if err != nil {
			return fmt.Errorf("it is not a gzip file: %w", err)
		}
		r = z
	}
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("it is not a tar archive: %w", err)
		}
		switch h.Typeflag {
		case tar.TypeReg:
			if err := p.add(h.Name, t); err != nil {
				return err
			}
		case tar.TypeDir, tar.TypeXGlobalHeader:
		default:
			p.problem("entry %q is no plain file and was left out", source.Clean(h.Name))
		}
	}
}

func (p *packer) add(name string, body io.Reader) error {
	clean := strings.TrimPrefix(path.Clean(strings.ReplaceAll(name, `\`, "/")), "/")
	if !fs.ValidPath(clean) || clean == "." || strings.Count(clean, "/") > 64 || p.seen[clean] {
		p.problem("entry %q has a name that leads outside, or is there twice, and was left out", source.Clean(name))
		return nil
	}
	if p.entries++; p.entries > maxEntries {
		return fmt.Errorf("it has more than %d entries", maxEntries)
	}
	p.seen[clean] = true
	w, err := p.zip.CreateHeader(&zip.FileHeader{Name: clean, Method: zip.Store})
	if err != nil {
		return err
	}
	n, err := io.Copy(w, io.LimitReader(body, min(MaxFile+1, *p.budget+1)))
	*p.budget -= n
	switch {
	case err != nil:
		return fmt.Errorf("entry %q: %w", source.Clean(name), err)
	case *p.budget < 0:
		return errTooLarge
	case n > MaxFile:
		p.problem("entry %q is larger than %d MiB and was cut off there", source.Clean(name), MaxFile>>20)
	}
	return nil
}

// mounted is a file system in which archives are folders of the same name.
type mounted struct {
	fs.FS
	at map[string]fs.FS
}

// Open opens a file of the file system, or of the archive that its path leads into.
func (m mounted) Open(name string) (fs.File, error) {
	for i := len(name) - 1; i > 0; i-- { // the innermost archive
		if name[i] != '/' {
			continue
		}
		if sub := m.at[name[:i]]; sub != nil {
			return sub.Open(name[i+1:])
		}
	}
	return m.FS.Open(name)
}

// stdinName is the name of what comes on standard input.
const stdinName = "-"

// oneFile is a file system with one file, stdinName.
func oneFile(data []byte) fs.FS {
	var buf bytes.Buffer
	w := zip.NewWriter(&buf)
	f, err := w.CreateHeader(&zip.FileHeader{Name: stdinName, Method: zip.Store})
	if err == nil {
		_, err = f.Write(data)
	}
	if err != nil || w.Close() != nil {
		return nil // writing to memory does not fail
	}
	r, _ := zip.NewReader(bytes.NewReader(buf.Bytes()), int64(buf.Len()))
	return r
}
