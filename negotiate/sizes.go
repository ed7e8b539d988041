package negotiate

import (
	"toril/ike"
	"toril/model"
	"toril/pair"
)

// Ethernet is the MTU of Ethernet in bytes (RFC 894), which is assumed of an interface that does not tell.
const Ethernet = 1500

// Sizes are what fits into the packets of a child, in bytes.
type Sizes struct {
	Link     int  // MTU of the interface that its ESP packets leave by
	Told     bool // by the configuration, and not taken for Ethernet's
	Suite    ike.Suite
	Wrap     ike.Wrap
	InnerMTU int
}

// SizesOf computes what fits into the packets of a child of an end that are protected by a suite and leave by an interface, nil where that
// is not known; ok is false where nothing fits. ESP goes in UDP if either end says so, or is behind NAT and neither refuses.
func SizesOf(t *pair.Tunnel, e pair.End, k *model.Child, suite ike.Suite, by *model.Interface) (z Sizes, ok bool) {
	z = Sizes{Link: Ethernet, Suite: suite}
	if by != nil && by.MTU.Value > 0 {
		z.Link, z.Told = by.MTU.Value, true
	}
	own, peer := t.Own(e), t.Peer(e)
	far, given := t.Far(e)
	always := e.Connection.Encap.Value || given && far.Connection.Encap.Value
	never := e.Connection.NoEncap || given && far.Connection.NoEncap
	z.Wrap = ike.Wrap{
		Protocol:     k.Protocol.Value,
		Mode:         k.Mode.Value,
		Encapsulated: always || !never && (t.BehindNAT(e) || given && t.BehindNAT(far)),
		Outer6:       own.Unmap().Is6() || peer.Unmap().Is6(),
		Cut96:        k.Cut96.Value,
	}
	z.InnerMTU = suite.InnerMTU(z.Wrap, z.Link)
	return z, suite.Valid() && z.InnerMTU > 0
}
