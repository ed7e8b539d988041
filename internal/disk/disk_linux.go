package disk

import (
	"os"
	"slices"
	"syscall"
)

// kernels are the file systems whose files the kernel makes up as they are read (statfs(2)).
var kernels = []int64{
	0x9fa0,     /* proc */
	0x62656572, /* sysfs */
	0x64626720, /* debugfs */
	0x74726163, /* tracefs */
	0x73636673, /* securityfs */
	0xcafe4a11, /* bpf */
	0x27e0eb,   /* cgroup */
	0x63677270, /* cgroup2 */
	0x6165676c, /* pstore */
}

// onDisk refuses a file of the kernel's: reading it may wait, never end, or do something.
func onDisk(f *os.File) error {
	var s syscall.Statfs_t
	if err := syscall.Fstatfs(int(f.Fd()), &s); err == nil && slices.Contains(kernels, int64(uint32(s.Type))) {
		return &Refused{"it is a file of the running kernel, not a saved one"}
	}
	return nil
}
