package memory

import (
	"bytes"
	"math"
	"os"
	"runtime"
	"runtime/debug"

	"golang.org/x/sys/unix"
)

// advise has the kernel give memory that is going to be made in large pages, where it leaves that to programs (madvise(2),
// MADV_HUGEPAGE): what is new is then there 2 MiB at a time, and not 4 KiB, which takes a tenth to a fifth off a large run. Memory of so
// many bytes is made, without being touched, and let go; what is made next lies in it.
func advise(bytes int64) {
	if !advisable() {
		return
	}
	const piece = 4 << 20 // the first may have been used before, and is cleared
	percent, limit := debug.SetGCPercent(-1), debug.SetMemoryLimit(math.MaxInt64)
	pieces := make([][]byte, 0, bytes/piece)
	for range cap(pieces) {
		p := make([]byte, piece)
		if unix.Madvise(p, unix.MADV_HUGEPAGE) != nil {
			break
		}
		pieces = append(pieces, p)
	}
	runtime.KeepAlive(pieces)
	uncounted.Store(true)
	runtime.GC()
	debug.SetGCPercent(percent)
	debug.SetMemoryLimit(limit)
}

// advisable reports whether the kernel takes that advice, and promises memory that may never be used: under a limit of addresses, or where
// it counts every promise, there may be too little for it.
func advisable() bool {
	pages, _ := os.ReadFile("/sys/kernel/mm/transparent_hugepage/enabled")
	promises, _ := os.ReadFile("/proc/sys/vm/overcommit_memory")
	var addresses unix.Rlimit
	return bytes.Contains(pages, []byte("[madvise]")) && !bytes.HasPrefix(promises, []byte("2")) &&
		unix.Getrlimit(unix.RLIMIT_AS, &addresses) == nil && addresses.Cur == unix.RLIM_INFINITY
}
