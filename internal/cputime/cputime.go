// Package cputime measures processor time, which does not depend on what else a machine does. Tests bound that, and never the time of a
// clock.
package cputime

import (
	"syscall"
	"time"
)

// Spent returns the processor time that this process has spent, for itself and in the kernel, on all processors.
func Spent() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
