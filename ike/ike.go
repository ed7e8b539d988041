// Package ike knows the algorithms of IKE and IPsec and how two ends agree on them: the IANA registries as one table,
// proposals, and negotiation as RFC 7296 (IKEv2) and RFC 2409 (IKEv1) describe it. It reads no file and knows no
// daemon's keywords.
package ike

import "fmt"

// Version is the version of IKE that a connection is told to use.
type Version uint8

// The versions. Either means that the connection starts with IKEv2 and accepts both.
const (
	Either Version = iota
	V1
	V2
)

// String returns "IKEv1", "IKEv2" or "IKEv1 or IKEv2".
func (v Version) String() string {
	return [...]string{"IKEv1 or IKEv2", "IKEv1", "IKEv2"}[v]
}

// Protocol is what a proposal is for.
type Protocol uint8

// The protocols, numbered as in RFC 7296 section 3.3.1.
const (
	IKE Protocol = iota + 1
	AH
	ESP
)

// String returns the protocol's name.
func (p Protocol) String() string {
	if p < IKE || p > ESP {
		return fmt.Sprintf("protocol %d", uint8(p))
	}
	return [...]string{"IKE", "AH", "ESP"}[p-1]
}

// Mode is how a child wraps a packet.
type Mode uint8

// The modes.
const (
	Tunnel Mode = iota
	Transport
	BEET // bound end-to-end tunnel
	Pass // the packets are let through in clear
	Drop // the packets are dropped
)

// String returns the mode's name.
func (m Mode) String() string {
	return [...]string{"tunnel", "transport", "beet", "pass", "drop"}[m]
}
