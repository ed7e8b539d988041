// Package disk opens what lies on a disk for reading, and nothing else: regular files, without ever waiting for one, and inside of
// a folder nothing that leads out of it. Named pipes, devices, sockets and the files of the kernel (/proc, /sys) are refused.
package disk

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Refused is the error for what is there and is no file that may be read.
type Refused struct{ Why string }

// Error says why: "it is a named pipe".
func (r *Refused) Error() string { return r.Why }

// ErrTooLarge is the error for a file of more bytes than asked for.
var ErrTooLarge = errors.New("it is too large")

// Folder is a folder's content as a file system. Symbolic links are followed inside of it only.
func Folder(path string) (fs.FS, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	return folder{root: root, top: topOf(path, root)}, nil
}

// File is the folder that holds a file, and the file's name in it. The path itself may be a symbolic link: whoever gives it means it.
func File(path string) (fs.FS, string, error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil, "", err
	}
	fsys, err := Folder(filepath.Dir(real))
	return fsys, filepath.Base(real), err
}

// ReadFile reads a file of at most so many bytes.
func ReadFile(path string, most int64) ([]byte, error) {
	fsys, name, err := File(path)
	if err != nil {
		return nil, err
	}
	return Read(fsys, name, most)
}

// Read reads a file of a file system, of at most so many bytes; one that is larger is ErrTooLarge.
func Read(fsys fs.FS, name string, most int64) ([]byte, error) {
	return ReadInto(nil, fsys, name, most)
}

// ReadInto is Read into the room of a slice, as far as that is enough.
func ReadInto(room []byte, fsys fs.FS, name string, most int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	size := int64(0)
	if info, err := f.Stat(); err == nil {
		if size = info.Size(); size > most {
			return nil, ErrTooLarge
		}
	}
	data := slices.Grow(room[:0], int(size)+1) // one more, so that its end is seen
	_, exact := f.(opened)
	for {
		n, err := f.Read(data[len(data):cap(data)])
		data = data[:len(data)+n]
		switch {
		case exact && err == nil && int64(len(data)) == size: // all that its description says
			return data, nil
		case int64(len(data)) > most:
			return nil, ErrTooLarge
		case err == io.EOF:
			return data, nil
		case err != nil:
			return data, err
		}
		if len(data) == cap(data) {
			data = slices.Grow(data, bytes.MinRead)
		}
	}
}

// folder is a folder of a root. Links lead anywhere in the root.
type folder struct {
	root *os.Root
	path string // of the folder in the root, with a slash behind it; "" for the root itself
	top  *handle
	held *handle // the folder itself, while it is held open
}

// Sub is a folder below it.
func (d folder) Sub(dir string) (fs.FS, error) {
	if !fs.ValidPath(dir) {
		return nil, &fs.PathError{Op: "sub", Path: dir, Err: fs.ErrInvalid}
	}
	if dir == "." {
		return d, nil
	}
	return folder{root: d.root, path: d.path + dir + "/", top: d.top}, nil
}

// Hold returns a file system whose folder stays open until done is called, so that each of its files is found at once.
func Hold(fsys fs.FS) (held fs.FS, done func()) {
	if d, ok := fsys.(folder); ok && d.held == nil {
		if h := d.top.below(d.path); h != nil {
			d.held = h
			return d, h.close
		}
	}
	return fsys, func() {}
}

// in asks the root for a name of the folder.
func in[T any](d folder, name string, ask func(root *os.Root, name string) (T, error)) (T, error) {
	return ask(d.root, strings.TrimSuffix(d.path+name, "/."))
}

// opened is a file whose description is known.
type opened struct {
	io.ReadCloser
	info fs.FileInfo
}

// Stat is the description of the file when it was opened.
func (o opened) Stat() (fs.FileInfo, error) { return o.info, nil }

// Open opens a file or a folder.
func (d folder) Open(name string) (fs.File, error) {
	if f, ok := d.held.open(name); ok {
		return f, nil
	}
	info, err := d.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return in(d, name, reading)
	}
	f, err := in(d, name, reading)
	if err != nil {
		return nil, refused(err)
	}
	if info, err = f.Stat(); err == nil {
		err = regular(info)
	}
	if err == nil {
		err = onDisk(int(f.Fd()), info)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return opened{f, info}, nil
}

// reading opens what a root has by a name for reading; what became a pipe meanwhile does not hold us up.
func reading(root *os.Root, name string) (*os.File, error) {
	return root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
}

// Stat describes a file that may be opened, or a folder.
func (d folder) Stat(name string) (fs.FileInfo, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	info, err := in(d, name, (*os.Root).Stat)
	if err != nil {
		return nil, refused(err)
	}
	return info, regular(info)
}

// ReadDir lists a folder.
func (d folder) ReadDir(name string) ([]fs.DirEntry, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	var entries []fs.DirEntry
	add := func(called string, kind fs.FileMode) {
		entries = append(entries, entry{called, kind, d.root, path.Join(d.path, name, called)})
	}
	if !d.top.list(d.path+name, add) {
		f, err := in(d, name, reading)
		if err != nil {
			return nil, refused(err)
		}
		defer f.Close()
		if entries, err = f.ReadDir(-1); err != nil {
			return entries, err
		}
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, nil
}

// entry is what lies in a folder.
type entry struct {
	name string
	kind fs.FileMode
	root *os.Root
	path string // in the root
}

// Name is its name.
func (e entry) Name() string { return e.name }

// IsDir reports whether it is a folder.
func (e entry) IsDir() bool { return e.kind.IsDir() }

// Type is its kind.
func (e entry) Type() fs.FileMode { return e.kind }

// Info describes it; of a link the link.
func (e entry) Info() (fs.FileInfo, error) { return e.root.Lstat(e.path) }

// refused turns the error for a link that leads out of the folder into one of ours.
func refused(err error) error {
	if escapes(err) {
		return &Refused{"it leads out of the folder that is read"}
	}
	return err
}

// escapes reports whether the error is for a link that leads out of a root.
func escapes(err error) bool {
	pe := (*fs.PathError)(nil)
	return errors.As(err, &pe) && strings.Contains(pe.Err.Error(), "escapes")
}

// regular refuses what is neither a regular file nor a folder.
func regular(info fs.FileInfo) error {
	switch m := info.Mode(); {
	case m.IsRegular() || m.IsDir():
		return nil
	case m&fs.ModeNamedPipe != 0:
		return &Refused{"it is a named pipe"}
	case m&fs.ModeSocket != 0:
		return &Refused{"it is a socket"}
	case m&(fs.ModeDevice|fs.ModeCharDevice) != 0:
		return &Refused{"it is a device"}
	}
	return &Refused{"it is no regular file"}
}
