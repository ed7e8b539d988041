// Package known is the list of the IKE daemons that Toril knows.
package known

import (
	"cmp"

	"toril/daemon"
	"toril/daemon/libreswan"
	"toril/daemon/openiked"
	"toril/daemon/strongswan"
)

// All are the daemons, in the order in which they are listed.
func All() []*daemon.Known {
	return []*daemon.Known{strongswan.Known, libreswan.Known, openiked.Known}
}

// Writes returns the sections of a format, by its name among those that are read, whose keywords are described: those that Toril can write.
func Writes(format string) []*daemon.Section {
	var out []*daemon.Section
	for _, d := range All() {
		for _, s := range d.Described() {
			if cmp.Or(s.Format, s.File) == format {
				out = append(out, s)
			}
		}
	}
	return out
}
