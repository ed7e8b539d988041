// Package access holds the checks of what the packet filter lets through, in and out of tunnels and to the gateway.
package access

import (
	"net/netip"

	"toril/packet"
)

// New connections, in their first direction, that no translation has touched.
func fresh(s packet.Set) packet.Set {
	return s.With(packet.State, packet.OneOf(packet.New)).With(packet.Direction, packet.OneOf(packet.Original)).With(packet.Translated, packet.OneOf(0)).
		With(packet.Mark, packet.OneOf(0))
}

func decrypted(peer netip.Addr) packet.Set {
	if peer.IsValid() {
		return packet.Where(packet.PeerIn, packet.Addresses(peer, peer))
	}
	return packet.Where(packet.PeerIn, packet.Numbers(0, 0)).Not()
}
