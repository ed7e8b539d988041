package disk

import (
	"io/fs"
	"slices"
	"sync"
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

// kernelOn says of the devices that files were on whether all that is on them is of the kernel: nearly all files are on one.
var kernelOn sync.Map

// onDisk refuses a file of the kernel's: reading it may wait, never end, or do something.
func onDisk(fd int, info fs.FileInfo) error {
	if madeUp(fd, info.Sys().(*syscall.Stat_t).Dev) {
		return &Refused{"it is a file of the running kernel, not a saved one"}
	}
	return nil
}

// madeUp reports whether an open file of a device is the kernel's.
func madeUp(fd int, device uint64) bool {
	kernel, told := kernelOn.Load(device)
	if !told {
		var s syscall.Statfs_t
		err := syscall.Fstatfs(fd, &s)
		kernel = err == nil && slices.Contains(kernels, int64(uint32(s.Type)))
		kernelOn.Store(device, kernel)
	}
	return kernel.(bool)
}
