// Package disk opens what lies on a disk for reading, and nothing else: regular files, without ever waiting for one, and inside of
// a folder nothing that leads out of it. Named pipes, devices, sockets and the files of the kernel (/proc, /sys) are refused.
package disk

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
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
	return folder{root}, nil
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
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	if info, err := f.Stat(); err == nil {
		if info.Size() > most {
			return nil, ErrTooLarge
		}
		b.Grow(int(info.Size()) + bytes.MinRead) // at the end as much room must be left
	}
	_, err = b.ReadFrom(io.LimitReader(f, most+1))
	if int64(b.Len()) > most {
		return nil, ErrTooLarge
	}
	return b.Bytes(), err
}

type folder struct{ root *os.Root }

// Open opens a file or a folder.
func (d folder) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	info, err := d.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return d.root.Open(name)
	}
	f, err := d.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // what became a pipe meanwhile does not hold us up
	if err != nil {
		return nil, refused(err)
	}
	if info, err = f.Stat(); err == nil {
		err = regular(info)
	}
	if err == nil {
		err = onDisk(f)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Stat describes a file that may be opened, or a folder.
func (d folder) Stat(name string) (fs.FileInfo, error) {
	info, err := d.root.Stat(name)
	if err != nil {
		return nil, refused(err)
	}
	return info, regular(info)
}

// ReadDir lists a folder.
func (d folder) ReadDir(name string) ([]fs.DirEntry, error) {
	f, err := d.root.Open(name)
	if err != nil {
		return nil, refused(err)
	}
	defer f.Close()
	entries, err := f.ReadDir(-1)
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, err
}

// refused turns the error for a link that leads out of the folder into one of ours.
func refused(err error) error {
	if pe := (*fs.PathError)(nil); errors.As(err, &pe) && strings.Contains(pe.Err.Error(), "escapes") {
		return &Refused{"it leads out of the folder that is read"}
	}
	return err
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
