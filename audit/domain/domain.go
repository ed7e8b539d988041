// Package domain holds the checks of encryption domains: which packets a child protects.
package domain

import (
	"toril/packet"
	"toril/walk"
)

// bypassed reports whether policies that let pass take the packets between some addresses, given as sources, before any tunnel
// could.
func bypassed(path *walk.Path, addresses packet.Set) bool {
	addresses = addresses.Free(packet.Proto, packet.Sport, packet.Dport, packet.ICMP)
	pass := packet.None()
	for _, pol := range path.Policies {
		if pol.Passes() {
			pass = pass.Or(pol.Domain)
		}
	}
	between := addresses.And(addresses.Mirror())
	return !between.Empty() && pass.Contains(between)
}
