// Package known is the list of the IKE daemons that Toril knows.
package known

import (
	"toril/daemon"
	"toril/daemon/libreswan"
	"toril/daemon/openiked"
	"toril/daemon/strongswan"
)

// All are the daemons, in the order in which they are listed.
func All() []*daemon.Known {
	return []*daemon.Known{strongswan.Known, libreswan.Known, openiked.Known}
}
