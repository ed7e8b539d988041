package walk

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/ike"
	"toril/model"
	"toril/packet"
)

// Policy is an IPsec policy as the daemon puts it into the kernel for a child.
type Policy struct {
	Name       string // "connection/child"
	Child      *model.Child
	Connection *model.Connection
	Own, Peer  netip.Addr
	Domain     packet.Set         // the plain packets that it is for, on their way out
	IfID       uint32             // only packets that leave by the xfrm interface of this number
	Up         bool               // an SA stands
	Device     *model.Interface   // the interface through which packets are routed into it; nil where it needs none, or none is there
	Wraps      []*model.Interface // interfaces that wrap what is routed to them into packets of the policy
	narrow     int                // how narrow its selectors are
	memo       *memo
	back       packet.Set    // the packets that come out of it
	peer       packet.Values // what its packets have as their IPsec peer
	doubts     model.Doubts  // about the interface that leads into it
	inUDP      bool          // its ESP packets go in UDP
}

// Protects reports whether the policy encrypts: it neither lets packets pass in the clear nor drops them.
func (p *Policy) Protects() bool { return !p.passes() && !p.drops() }

// Back are the packets that come out of the policy's tunnel, in the clear again.
func (p *Policy) Back() packet.Set { return p.back }

// peerValues is what packets of a policy have as their IPsec peer: its address, or one that stands for some.
func peerValues(peer netip.Addr) packet.Values {
	if peer.IsValid() {
		return packet.Addresses(peer, peer)
	}
	return packet.OneOf(1)
}

// noPeer is the peer of packets in the clear.
var noPeer netip.Addr

// seenAs is the peer that rules see on what comes out of the policy's tunnel; invalid for none.
func (p *Policy) seenAs() netip.Addr {
	if len(p.Wraps) > 0 || p.Device != nil && p.Device.Kind == "vti" {
		return noPeer
	}
	return p.Peer
}

// Peered are the packets whose field, PeerIn or PeerOut, is a peer: of that address, or of any where it is not known.
func Peered(f packet.Field, peer netip.Addr) packet.Set {
	if peer.IsValid() {
		return packet.Where(f, packet.Addresses(peer, peer))
	}
	if f == packet.PeerIn {
		return anyPeerIn
	}
	return anyPeerOut
}

var anyPeerIn, anyPeerOut = packet.Where(packet.PeerIn, packet.OneOf(0)).Not(), packet.Where(packet.PeerOut, packet.OneOf(0)).Not()

// Passes reports whether the policy lets its packets by in the clear.
func (p *Policy) Passes() bool { return p.passes() }

// passes reports whether the policy lets packets by in the clear, or drops them, and protects none.
func (p *Policy) passes() bool { return p.Child.Mode.Value == ike.Pass }
func (p *Policy) drops() bool  { return p.Child.Mode.Value == ike.Drop }

// policy adds what the daemon installs for a child that is up or caught by traffic, or that lets pass or drops. A child
// that waits and is down has none.
func (p *Path) policy(c *model.Connection, k *model.Child, e Ends, opts Options) {
	if !k.Policies.Value || c.Unusable != nil {
		return
	}
	pol := &Policy{
		Name:       c.Name + "/" + k.Name,
		Child:      k,
		Connection: c,
		Own:        e.Own,
		Peer:       e.Peer,
		IfID:       k.IfIDOut.Value,
		memo:       &memo{},
		peer:       peerValues(e.Peer),
		inUDP:      e.InUDP || c.Encap.Value,
	}
	if err := packet.Guard(func() { pol.Domain = k.Domain(e.Own, e.Peer) }); err != nil {
		why := fmt.Sprintf("which packets %s is for is not known: %s", pol.Name, err)
		p.doubts.Add(&model.Doubt{Cause: model.Undecided, Gateway: p.Gateway.Name, At: k.At, Of: pol.Name, Why: why, Topic: model.AboutIKE})
		return
	}
	pol.doubts = c.Doubts.And(k.Doubts)
	pol.Up = opts.Down == nil || !opts.Down(k)
	if pol.Protects() && !pol.Up && !k.Start.Value.Traps() || !pol.Protects() && !shuntInstalled(c, k) {
		return
	}
	pol.narrow = specific(pol)
	pol.back = pol.Domain.Mirror()
	if mark, mask, ok := k.Marked(); ok {
		pol.Domain = pol.Domain.With(packet.Mark, markedBy(mark, mask))
	}
	pol.Device = p.deviceOf(pol)
	if k.RouteBased() {
		doubts := p.Gateway.Doubts(model.AboutInterfaces)
		for _, i := range p.Gateway.Interfaces {
			if i.Kind == "" || pol.Device == i || i.Kind == "xfrm" || i.Kind == "vti" {
				doubts.Add(i.Doubts...)
			}
		}
		pol.doubts = pol.doubts.And(doubts)
		p.doubts = p.doubts.And(doubts) // what is not for the policy may be for it
		if pol.Device == nil {
			pol.doubts.Add(p.Gateway.Lacks().Addresses...)
		}
	}
	p.Policies = append(p.Policies, pol)
}

// markedBy are the marks that fit a value under a mask; any but 0 where the daemon makes one up.
func markedBy(value, mask uint32) packet.Values {
	if mask == 0 {
		return packet.Numbers(1, 1<<32-1)
	}
	v, ok := packet.Masked(value, mask)
	if !ok {
		return packet.Numbers(0, 1<<32-1)
	}
	return v
}

// shuntInstalled reports whether the daemon puts a policy that lets pass or drops into the kernel: strongSwan does so only
// where it is to be trapped (seen with 5.9.8), the others wherever the connection is started at all.
func shuntInstalled(c *model.Connection, k *model.Child) bool {
	if c.Daemon.Policies.ShuntsTrapped {
		return k.Start.Value.Traps()
	}
	return k.Start.Value != model.StartNever
}

// deviceOf is the interface through which packets are routed into a policy: the xfrm interface of its identifier, or the
// VTI whose key is its mark. Of several VTIs the one whose far end is the policy's peer.
func (p *Path) deviceOf(pol *Policy) *model.Interface {
	var found *model.Interface
	for _, i := range p.Gateway.Interfaces {
		switch i.Kind {
		case "xfrm":
			if pol.IfID != 0 && i.IfID == pol.IfID {
				return i
			}
		case "vti":
			if mark, mask, ok := pol.Child.Marked(); ok && mask != 0 && i.Key&mask == mark {
				if i.Remote == pol.Peer {
					return i
				}
				found = i
			}
		}
	}
	return found
}

// offered returns the packets that the kernel offers to a policy when they leave by an interface: an xfrm interface offers
// them to the policies of its identifier, a VTI gives them its key as their mark (seen with Linux 6.1).
func (pol *Policy) offered(by *model.Interface) packet.Set {
	switch {
	case by != nil && by.Kind == "xfrm":
		if pol.IfID == by.IfID {
			return pol.Domain
		}
	case pol.IfID != 0:
	case by != nil && by.Kind == "vti":
		if mark, mask, ok := pol.Child.Marked(); !ok || by.Key&mask == mark {
			return pol.Domain.Free(packet.Mark, packet.ConnMark)
		}
	default:
		return pol.Domain
	}
	return packet.None()
}

// Policy returns the policy of a child between two addresses; nil where the daemon installs none.
func (p *Path) Policy(k *model.Child, own, peer netip.Addr) *Policy {
	return p.of[policyKey{k, own, peer}]
}

// asking finds, among policies, those that packets may be for.
type asking struct {
	policies []*Policy // in the order in which the kernel asks them
	index    *packet.Index
}

func newAsking(policies []*Policy) *asking {
	domains := make([]packet.Set, len(policies))
	for i, pol := range policies {
		domains[i] = pol.Domain
	}
	return &asking{policies, packet.NewIndex(domains)}
}

// meeting returns the policies whose domain some packets may be in, whatever some of their fields are.
func (a *asking) meeting(s packet.Set, whatever ...packet.Field) []*Policy {
	if a == nil {
		return nil
	}
	at := a.index.Meeting(s, whatever...)
	out := make([]*Policy, len(at))
	for i, k := range at {
		out[i] = a.policies[k]
	}
	return out
}

// order prepares the policies to be found by the packets that they are for.
func (p *Path) order() {
	p.of = make(map[policyKey]*Policy, len(p.Policies))
	by := map[uint32][]*Policy{}
	for _, pol := range p.Policies {
		if key := (policyKey{pol.Child, pol.Own, pol.Peer}); p.of[key] == nil {
			p.of[key] = pol
		}
		by[pol.IfID] = append(by[pol.IfID], pol)
	}
	p.all, p.byIfID = newAsking(p.Policies), map[uint32]*asking{}
	for id, list := range by {
		if len(list) == len(p.Policies) { // all of them, in their order
			p.byIfID[id] = p.all
			continue
		}
		p.byIfID[id] = newAsking(list)
	}
}

// Meeting returns the policies whose domain some packets, on their way out, may be in, whatever their mark: in the order in which the
// kernel asks them.
func (p *Path) Meeting(s packet.Set) []*Policy { return p.all.meeting(s, packet.Mark) }

// askedOut are the policies that packets may be for that leave by an interface, nil for one that is not known, in the order in which the
// kernel asks them.
func (p *Path) askedOut(s packet.Set, by *model.Interface) []*Policy {
	switch {
	case by != nil && by.Kind == "xfrm":
		return p.standing(p.byIfID[by.IfID].meeting(s, packet.Mark))
	case by != nil && by.Kind == "vti" && by.Key != 0: // its key is their mark
		return p.standing(p.byIfID[0].meeting(s.Replace(packet.Mark, packet.OneOf(uint64(by.Key)))))
	}
	return p.standing(p.byIfID[0].meeting(s, packet.Mark))
}

// askedIn are the policies that demand of packets that come in that they were decrypted; those of xfrm interfaces do not.
func (p *Path) askedIn(s packet.Set) []*Policy {
	return p.standing(p.byIfID[0].meeting(s.Mirror(), packet.Mark))
}

// standing returns policies as they are while some child may be down.
func (p *Path) standing(all []*Policy) []*Policy {
	if p.down == nil {
		return all
	}
	var out []*Policy
	for _, pol := range all {
		if pol.Child == p.down && pol.Protects() {
			if !pol.Child.Start.Value.Traps() {
				continue
			}
			down := *pol
			down.Up, down.memo = false, &memo{}
			pol = &down
		}
		out = append(out, pol)
	}
	return out
}

// precedence orders policies that let pass before those that protect, and those that drop behind them where the daemon puts them below.
func precedence(p *Policy) int {
	switch {
	case p.passes():
		return 0
	case p.drops() && p.Connection.Daemon.Policies.DropsLast:
		return 2
	}
	return 1
}

// specific is how narrow a policy's selectors are: the daemon asks the narrower first.
func specific(p *Policy) int {
	n := 0
	for _, ss := range []ike.Selectors{p.Child.Local.Value.At(p.Own), p.Child.RemoteAt(p.Peer)} {
		best := 256
		for _, s := range ss {
			bits := 0
			if s.Lo.IsValid() {
				for _, pre := range packet.Range(packet.Src, s.Lo, s.Hi).Prefixes(packet.Src) {
					bits = max(bits, pre.Bits())
				}
			}
			k := bits * 2
			if s.Proto != 0 {
				k++
			}
			if !s.AllPorts() {
				k++
			}
			best = min(best, k)
		}
		n += best
	}
	return n
}

// routesOf are the routes that strongSwan installs for a policy (5.9.8 was asked): to the remote networks by where the peer
// is, in a table of its own, if the gateway has an address in the local networks. A policy that lets pass has its remote
// networks thrown out of that table. There is none for transport mode, nor for single protocols or ports, nor for an xfrm
// interface.
func (p *Path) routesOf(pol *Policy) []*model.Route {
	if !pol.Connection.Daemon.Policies.Routes || p.Gateway.Options.NoRoutes.Value || pol.IfID != 0 || pol.drops() || !p.router.known ||
		pol.Child.Mode.Value == ike.Transport {
		return nil
	}
	local, remote := pol.Child.Local.Value.At(pol.Own), pol.Child.RemoteAt(pol.Peer)
	whole := func(ss ike.Selectors) ike.Selectors {
		return slices.DeleteFunc(slices.Clone(ss), func(s ike.Selector) bool { return s.Proto != 0 || !s.AllPorts() })
	}
	local, remote = whole(local), whole(remote)
	if len(local) == 0 {
		return nil
	}
	to := remote.Packets().Prefixes(packet.Src)
	var out []*model.Route
	if pol.passes() {
		for _, n := range to {
			out = append(out, &model.Route{At: pol.Child.At, To: n, Kind: "throw", Table: daemonTable, Origin: daemonOrigin})
		}
		return out
	}
	if !pol.Peer.IsValid() {
		return nil
	}
	if !p.inside(local) {
		if lacks := p.Gateway.Lacks().Addresses; len(lacks) > 0 { // it may have one
			p.router.open = append(p.router.open, doubted{packet.Prefixes(packet.Dst, to...), lacks})
		}
		return nil
	}
	for _, h := range p.router.Decide(Start(between(pol.Own, pol.Peer))) {
		if h.kind != "unicast" {
			continue
		}
		for _, n := range to {
			out = append(
				out,
				&model.Route{At: pol.Child.At, To: n, Via: h.via, Dev: h.dev, Kind: "unicast", Table: daemonTable, Origin: daemonOrigin},
			)
		}
		break
	}
	return out
}

// inside reports whether the gateway has an address in some networks.
func (p *Path) inside(ss ike.Selectors) bool {
	for _, i := range p.Gateway.Interfaces {
		for _, a := range i.Addresses {
			if ss.Hold(a.Addr()) && !a.Addr().IsLoopback() {
				return true
			}
		}
	}
	return false
}
