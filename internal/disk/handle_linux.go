package disk

import (
	"bytes"
	"encoding/binary"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// handle is a folder that is open. What lies in it under a bare name, and is a regular file or a folder and no link, can lead nowhere else:
// that is opened, read and listed with the fewest questions to the kernel. All else is for the root to answer, as a file system of the
// standard library does. A nil handle knows nothing.
type handle struct{ fd int }

// topOf returns the folder of a root by the path that the root was opened by; nil where that is another folder by now.
func topOf(dir string, root *os.Root) *handle {
	fd, err := open(unix.AT_FDCWD, dir, unix.O_DIRECTORY)
	if err != nil {
		return nil
	}
	h := &handle{fd}
	var s unix.Stat_t
	info, err := root.Stat(".")
	if err != nil || unix.Fstat(fd, &s) != nil {
		h.close()
		return nil
	}
	if is := info.Sys().(*syscall.Stat_t); is.Dev != s.Dev || is.Ino != s.Ino {
		h.close()
		return nil
	}
	runtime.AddCleanup(h, func(fd int) { _ = unix.Close(fd) }, fd) // as of the root itself
	return h
}

// close lets go of the folder; nothing was written.
func (h *handle) close() { _ = unix.Close(h.fd) }

// below opens a folder below another; nil where a link is on the way.
func (h *handle) below(dir string) *handle {
	if h == nil {
		return nil
	}
	at := h.fd
	for name := range strings.SplitSeq(path.Clean(dir), "/") {
		fd, err := open(at, name, unix.O_DIRECTORY|unix.O_NOFOLLOW)
		if at != h.fd {
			_ = unix.Close(at)
		}
		if err != nil {
			return nil
		}
		at = fd
	}
	runtime.KeepAlive(h)
	return &handle{at}
}

// open opens a file or folder for reading.
func open(at int, name string, how int) (fd int, err error) {
	for {
		fd, err = unix.Openat(at, name, unix.O_RDONLY|unix.O_CLOEXEC|how, 0)
		if err != unix.EINTR {
			return fd, err
		}
	}
}

// open opens a regular file of the folder; ok is false for all else.
func (h *handle) open(name string) (f fs.File, ok bool) {
	var s unix.Stat_t
	plain := func() bool { return s.Mode&unix.S_IFMT == unix.S_IFREG }
	if h == nil || strings.Contains(name, "/") || unix.Fstatat(h.fd, name, &s, unix.AT_SYMLINK_NOFOLLOW) != nil || !plain() {
		return nil, false
	}
	fd, err := open(h.fd, name, unix.O_NOFOLLOW|unix.O_NONBLOCK) // what became a pipe meanwhile does not hold us up
	if err != nil {
		return nil, false
	}
	if unix.Fstat(fd, &s) != nil || !plain() || madeUp(fd, s.Dev) {
		_ = unix.Close(fd)
		return nil, false
	}
	return opened{bare(fd), &described{name, s}}, true
}

// bare is an open file that nobody waits for.
type bare int

// Read reads what comes next.
func (b bare) Read(to []byte) (int, error) {
	for {
		n, err := unix.Read(int(b), to)
		switch {
		case err == unix.EINTR:
		case err != nil:
			return 0, err
		case n == 0 && len(to) > 0:
			return 0, io.EOF
		default:
			return n, nil
		}
	}
}

// Close closes the file.
func (b bare) Close() error { return unix.Close(int(b)) }

// described is a regular file as the kernel describes it.
type described struct {
	name string
	unix.Stat_t
}

// Name is the file's name.
func (d *described) Name() string { return d.name }

// Size is how many bytes it has.
func (d *described) Size() int64 { return d.Stat_t.Size }

// Mode is who may read and write it.
func (d *described) Mode() fs.FileMode { return fs.FileMode(d.Stat_t.Mode).Perm() }

// ModTime is when it was last written.
func (d *described) ModTime() time.Time { return time.Unix(d.Mtim.Unix()) }

// IsDir is false.
func (d *described) IsDir() bool { return false }

// Sys is what the kernel said.
func (d *described) Sys() any { return &d.Stat_t }

// kindOf is the kind of what lies in a folder, as the kernel lists it (readdir(3)); ok is false where it does not say.
func kindOf(listed byte) (kind fs.FileMode, ok bool) {
	switch listed {
	case unix.DT_REG:
	case unix.DT_DIR:
		kind = fs.ModeDir
	case unix.DT_LNK:
		kind = fs.ModeSymlink
	case unix.DT_FIFO:
		kind = fs.ModeNamedPipe
	case unix.DT_SOCK:
		kind = fs.ModeSocket
	case unix.DT_BLK:
		kind = fs.ModeDevice
	case unix.DT_CHR:
		kind = fs.ModeDevice | fs.ModeCharDevice
	default:
		return 0, false
	}
	return kind, true
}

// listRooms are for what the kernel lists at a time.
var listRooms = sync.Pool{New: func() any { return new([8 << 10]byte) }}

// list names all that lies in a folder below the handle's; ok is false where a link is on the way, something goes wrong, or the file system
// does not keep of what kind things are.
func (h *handle) list(dir string, add func(name string, kind fs.FileMode)) (ok bool) {
	at := h.below(dir)
	if at == nil {
		return false
	}
	defer at.close()
	room := listRooms.Get().(*[8 << 10]byte)
	defer listRooms.Put(room)
	for {
		n, err := unix.ReadDirent(at.fd, room[:])
		switch {
		case err == unix.EINTR:
			continue
		case err != nil:
			return false
		case n <= 0:
			return true
		}
		for rest := room[:n]; len(rest) > 0; {
			const length, kind, name = 16, 18, 19 // where they stand in an entry (getdents64(2))
			if len(rest) < name {
				return false
			}
			size := int(binary.NativeEndian.Uint16(rest[length:]))
			if size < name || size > len(rest) {
				return false
			}
			called, _, _ := bytes.Cut(rest[name:size], []byte{0})
			is, known := kindOf(rest[kind])
			if !known {
				return false
			}
			if text := string(called); text != "." && text != ".." {
				add(text, is)
			}
			rest = rest[size:]
		}
	}
}
