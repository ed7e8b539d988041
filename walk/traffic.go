package walk

import (
	"net/netip"
	"slices"
	"sync"

	"toril/ike"
	"toril/model"
	"toril/packet"
)

// This file says what a tunnel is there for: which packets go into it from the networks behind the gateway, and which come
// out of it. For a child whose selectors name networks these are they; where an interface leads into the tunnel, its routes
// say it.

// Pair is a network behind the gateway with one behind the far end.
type Pair struct {
	Local, Remote string     // as the selectors or routes name them
	Out           packet.Set // from the one to the other: addresses, protocols and ports
}

// In are the packets of the pair that come out of the tunnel.
func (pair Pair) In() packet.Set { return pair.Out.Mirror() }

// Pairs are the pairs of networks that a policy's tunnel is there for. A side that is any address stands for the networks
// that the routes tell of; a network is in no pair with itself, where one side is so wide that it holds the other.
func (p *Path) Pairs(pol *Policy) []Pair {
	return pol.memo.pairs.get(func() []Pair { return p.pairs(pol) })
}

// memo is what is worked out about a policy once.
type memo struct {
	pairs     once[Pair]
	domain    once[Flow]
	outer     once[Outcome]
	arrive    once[Outcome]
	crossings once[Crossing]
}

// once is a list that is computed on first use. Where that is too complex, every later use fails the same way: a list that could not be
// computed is never taken for an empty one.
type once[T any] struct {
	mu   sync.Mutex
	done bool
	list []T
}

func (o *once[T]) get(work func() []T) []T {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.done {
		o.list, o.done = slices.Clip(work()), true
	}
	return o.list
}

// forget lets the list go; whoever asks next works it out again.
func (o *once[T]) forget() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.list, o.done = nil, false
}

// maxNetworkPairs bounds how many pairs of networks are looked at one by one.
const maxNetworkPairs = 4096

func (p *Path) pairs(pol *Policy) []Pair {
	local, remote := pol.Child.Local.Value.At(pol.Own), pol.Child.RemoteAt(pol.Peer)
	into := p.Into(pol)
	if len(pol.Wraps) > 0 { // the selectors are for the outer packets
		local, remote = anywhere(pol.Own, pol.Peer), anywhere(pol.Own, pol.Peer)
	}
	if len(into) > 0 {
		if routed := p.routedInto(into); len(routed) > 0 {
			remote = routed.Meet(remote)
		}
	}
	derived := false
	if local.AnyAddress() {
		if there := p.behindIt(pol, into); len(there) > 0 {
			local, derived = there.Meet(local), true
		}
	}
	var out []Pair
	if len(local)*len(remote) > maxNetworkPairs { // all at once
		if s := ike.Domain(local, remote, pol.Own, pol.Peer); !s.Empty() {
			out = append(out, Pair{"its local networks", "its remote networks", s})
		}
		return out
	}
	for _, r := range remote {
		all := packet.None()
		for _, l := range local {
			s := ike.Domain(ike.Selectors{l}, ike.Selectors{r}, pol.Own, pol.Peer)
			switch wl, wr := addressesOf(l), addressesOf(r); {
			case wl.Equal(wr) && !derived: // domain/sides-overlap says it
			case wl.Contains(wr):
				s = s.Minus(wr)
			case wr.Contains(wl):
				s = s.Minus(wl.Mirror())
			}
			if derived {
				all = all.Or(s) // which of the networks behind it are meant is nowhere said
			} else if !s.Empty() {
				out = append(out, Pair{l.String(), r.String(), s})
			}
		}
		if !all.Empty() {
			out = append(out, Pair{"the networks behind it", r.String(), all})
		}
	}
	return out
}

// addressesOf are the packets whose source is one of a selector's addresses.
func addressesOf(s ike.Selector) packet.Set {
	if !s.Lo.IsValid() {
		return packet.None()
	}
	return packet.Range(packet.Src, s.Lo, s.Hi)
}

func anywhere(addrs ...netip.Addr) ike.Selectors {
	any := netip.MustParsePrefix("0.0.0.0/0")
	if slices.ContainsFunc(addrs, netip.Addr.Is6) {
		return ike.Selectors{ike.SelectPrefix(any), ike.SelectPrefix(netip.MustParsePrefix("::/0"))}
	}
	return ike.Selectors{ike.SelectPrefix(any)}
}

// Traffic are all the packets that a policy's tunnel is there for, on their way in.
func (p *Path) Traffic(pol *Policy) packet.Set {
	pairs := p.Pairs(pol)
	if len(pairs) == 1 {
		return pairs[0].Out
	}
	var sets []packet.Set
	for _, pair := range pairs {
		sets = append(sets, pair.Out)
	}
	return packet.Union(sets...)
}

// TrafficDoubts are why the packets that a policy's tunnel is there for may be others than it seems: where routes and interfaces tell them,
// and not the policy's own networks.
func (p *Path) TrafficDoubts(pol *Policy) model.Doubts {
	if len(p.Into(pol)) > 0 || pol.Child.Local.Value.AnyAddress() || pol.Child.Remote.Value.AnyAddress() {
		return p.Gateway.UnreadNetwork()
	}
	return nil
}

// Into are the interfaces that lead into a policy: its own, or those that wrap packets for it.
func (p *Path) Into(pol *Policy) []*model.Interface {
	if pol.Device != nil {
		return []*model.Interface{pol.Device}
	}
	return pol.Wraps
}

// wrappers are the interfaces whose outer packets a policy protects.
func (p *Path) wrappers(pol *Policy) []*model.Interface {
	if !pol.Protects() {
		return nil
	}
	var out []*model.Interface
	for _, i := range p.Gateway.Interfaces {
		if outer, ok := p.wrapOf(i); ok && outer.Overlaps(pol.Domain) {
			out = append(out, i)
		}
	}
	return out
}

// routedInto are the networks that routes of the gateway's lead into some interfaces, but for those of the interfaces
// themselves.
func (p *Path) routedInto(devs []*model.Interface) ike.Selectors {
	var out ike.Selectors
	for _, rt := range p.Gateway.Routes {
		if rt.Kind == "unicast" && rt.Origin != "connected" &&
			slices.ContainsFunc(devs, func(d *model.Interface) bool { return d.Name == rt.Dev }) {
			if s := ike.SelectPrefix(rt.To); !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// maxSpokes is the number of policies beyond which a tunnel for any address is not asked about each of the others.
const maxSpokes = 64

// behindIt are the networks behind the gateway, as far as routes and interfaces tell: those that neither the outside
// interface nor the tunnel itself leads to, and those at the far ends of its other tunnels.
func (p *Path) behindIt(pol *Policy, into []*model.Interface) ike.Selectors {
	outside := p.outside(pol.Own, pol.Peer)
	var out ike.Selectors
	add := func(n netip.Prefix) {
		if n.Bits() > 0 && !n.Addr().IsLoopback() && !n.Addr().IsLinkLocalUnicast() {
			out = append(out, ike.SelectPrefix(n.Masked()))
		}
	}
	for _, t := range p.own.tables {
		for _, rt := range t.routes {
			if d := p.devices[rt.Dev]; d != nil && d.Tunnel() && rt.Origin == "connected" {
				continue // a transfer network
			}
			if rt.Kind == "unicast" && rt.Dev != outside &&
				!slices.ContainsFunc(into, func(d *model.Interface) bool { return d.Name == rt.Dev }) {
				add(rt.To)
			}
		}
	}
	if len(p.Policies) <= maxSpokes {
		for _, o := range p.Policies {
			if o == pol || !o.Protects() || o.Peer == pol.Peer || len(o.Wraps) > 0 {
				continue
			}
			for _, s := range o.Child.RemoteAt(o.Peer) {
				if !s.AnyAddress() && !s.Dynamic && s.Lo.IsValid() {
					out = append(out, s)
				}
			}
		}
	}
	slices.SortFunc(out, ike.Selector.Compare)
	return slices.Compact(out)
}

// Domain returns a policy's packets as they come in from the networks behind the gateway, or out of its other tunnels: new
// connections, not the gateway's own.
func (p *Path) Domain(pol *Policy) []Flow {
	return pol.memo.domain.get(func() []Flow { return p.entering(pol, p.Traffic(pol)) })
}

// entering does as Entering, with the sources that packets for the tunnel have before the gateway moves them onto its networks.
func (p *Path) entering(pol *Policy, s packet.Set) []Flow {
	rest, before := p.beforeMappings(s)
	out := p.Entering(pol, rest)
	for _, m := range before {
		out = append(out, p.Entering(pol, m.packets)...)
	}
	return out
}

// Entering returns packets for a policy's tunnel as they come in: out of the other tunnels whose far ends have their sources,
// and by the interfaces that their sources are behind, as far as the files tell.
func (p *Path) Entering(pol *Policy, s packet.Set) []Flow {
	if pol.Own.IsValid() {
		s = s.Minus(packet.Range(packet.Src, pol.Own, pol.Own))
	}
	var out []Flow
	for _, o := range p.remotes.meeting(s) {
		if o == pol || o.Peer == pol.Peer || !o.Protects() {
			continue
		}
		part := s.And(p.Traffic(o).Mirror())
		if part.Empty() {
			continue
		}
		s = s.Minus(part)
		out = append(out, Start(p.emerging(o, Plain(part))).met(Step{Stage: "decrypt", What: "out of " + o.Name}))
	}
	if s.Empty() {
		return out
	}
	if !p.router.known {
		return append(out, behindGateway(Fresh(s, "")))
	}
	for _, part := range p.OwnRoutes(s.Free(packet.Mark, packet.ConnMark).Mirror()) {
		dev := ""
		if part.Route != nil {
			dev = part.Route.Dev
			if part.Route.Kind == "local" {
				continue // the gateway's own
			}
		}
		if f := behindGateway(Fresh(part.Packets.Mirror().And(s.Free(packet.Mark, packet.ConnMark)), dev)); !f.Now.Empty() {
			out = append(out, f.doubt(part.Doubts...))
		}
	}
	return out
}

// AtFarEnds are the packets of a set whose destination is at the far end of a tunnel of the gateway's, other than a policy's
// own.
func (p *Path) AtFarEnds(s packet.Set, but *Policy) packet.Set {
	out := packet.None()
	for _, o := range p.remotes.meeting(s.Mirror()) {
		if o != but && o.Protects() && (but == nil || o.Peer != but.Peer) {
			out = out.Or(s.And(p.Traffic(o).Free(packet.Src, packet.Proto, packet.Sport, packet.Dport, packet.ICMP)))
		}
	}
	return out
}

// behindGateway takes out what is the gateway's own.
func behindGateway(f Flow) Flow {
	f.Now = f.Now.Minus(made)
	return f
}

// ForwardAll follows flows that come in.
func (p *Path) ForwardAll(flows []Flow) []Outcome {
	var out []Outcome
	for _, f := range flows {
		out = joined(out, p.Forward(f))
	}
	return out
}

// spans finds policies by the addresses of their far networks.
type spans struct {
	list []span
	most []netip.Addr // the greatest hi of the list up to here
}

type span struct {
	lo, hi netip.Addr
	pol    *Policy
}

func newSpans(pols []*Policy, of func(*Policy) ike.Selectors) spans {
	var s spans
	for _, pol := range pols {
		for _, sel := range of(pol) {
			if sel.Lo.IsValid() && !sel.AnyAddress() {
				s.list = append(s.list, span{sel.Lo, sel.Hi, pol})
			}
		}
	}
	slices.SortStableFunc(s.list, func(a, b span) int { return a.lo.Compare(b.lo) })
	s.most = make([]netip.Addr, len(s.list))
	for i, x := range s.list {
		s.most[i] = x.hi
		if i > 0 && x.hi.Less(s.most[i-1]) {
			s.most[i] = s.most[i-1]
		}
	}
	return s
}

// meeting returns the policies some of whose addresses are sources in a set, in the order of the addresses.
func (s spans) meeting(set packet.Set) []*Policy {
	var out []*Policy
	for _, n := range set.Prefixes(packet.Src) {
		lo, hi := n.Addr(), ike.SelectPrefix(n).Hi
		end, _ := slices.BinarySearchFunc(s.list, hi, func(x span, a netip.Addr) int {
			if x.lo.Compare(a) <= 0 {
				return -1
			}
			return 1
		})
		for i := end - 1; i >= 0 && !s.most[i].Less(lo); i-- {
			if x := s.list[i]; !x.hi.Less(lo) && !slices.Contains(out, x.pol) {
				out = append(out, x.pol)
			}
		}
	}
	return out
}

// Entry is the interface by which what comes out of a policy's tunnel comes in; "" where the saved files do not tell.
func (p *Path) Entry(pol *Policy) string {
	switch {
	case pol.Device != nil:
		return pol.Device.Name
	case len(pol.Wraps) > 0:
		return pol.Wraps[0].Name
	}
	return p.outside(pol.Own, pol.Peer)
}

// emerging are the packets of a set that come out of a policy's tunnel: by which interface, and from which peer as rules
// see it. A VTI, and an interface that unwraps, forget that they were decrypted (seen with Linux 6.1).
func (p *Path) emerging(pol *Policy, s packet.Set) packet.Set {
	peer := pol.peer
	if len(pol.Wraps) > 0 || pol.Device != nil && pol.Device.Kind == "vti" {
		peer = packet.OneOf(0)
	}
	var in packet.Values
	if by := p.Entry(pol); by != "" {
		in = packet.Name(by)
	} else {
		in, _ = p.Outside(pol.Own, pol.Peer)
	}
	return s.WithAll(
		packet.Term{Field: packet.PeerOut, Values: packet.OneOf(0)},
		packet.Term{Field: packet.In, Values: in},
		packet.Term{Field: packet.PeerIn, Values: peer},
	)
}

// Emerging are packets that come out of a policy's tunnel, as new connections: by which interface, and from which peer as
// rules see it.
func (p *Path) Emerging(pol *Policy, s packet.Set) packet.Set { return p.emerging(pol, Plain(s)) }

// Inbound follows packets that come out of a policy's tunnel: the ESP packet through prerouting and input, then what was
// in it. The first list is what became of the ESP packet, and of the packet that it was wrapped in; where that is not let
// in there is no second.
func (p *Path) Inbound(pol *Policy, s packet.Set) (esp, inner []Outcome) {
	if len(pol.Wraps) == 0 {
		s = s.And(pol.back)
	}
	return p.InboundAs(pol, Plain(s))
}

// InboundAs does so with packets of any state of their connection.
func (p *Path) InboundAs(pol *Policy, s packet.Set) (esp, inner []Outcome) {
	esp = p.Arrive(pol)
	let := func(os []Outcome) bool {
		return slices.ContainsFunc(os, func(o Outcome) bool { return o.Fate == Delivered })
	}
	if len(esp) > 0 && !let(esp) {
		return esp, nil
	}
	f := Start(p.emerging(pol, s)).met(Step{Stage: "decrypt", What: "out of " + pol.Name}).doubt(pol.doubts...)
	if _, told := p.Outside(pol.Own, pol.Peer); !told && p.Entry(pol) == "" {
		f = f.unknown(packet.In, p.untold)
	} else if pol.Device == nil && len(pol.Wraps) == 0 {
		f = f.Unsure(packet.In, p.outsideDoubts(pol.Own, pol.Peer))
	}
	if len(pol.Wraps) > 0 {
		by := pol.Wraps[0]
		outer := p.UnwrapFrom(pol, by)
		if !let(outer) {
			return append(esp, outer...), nil
		}
		f = f.met(Step{Stage: "unwrap", What: "by " + by.Name})
	}
	if f.Now.Empty() {
		return esp, nil
	}
	return esp, p.Forward(f)
}

// UnwrapFrom follows the packets in which the far end of an interface wraps others, once they were decrypted, to the
// gateway itself.
func (p *Path) UnwrapFrom(pol *Policy, by *model.Interface) []Outcome {
	outer, ok := p.wrapOf(by)
	if !ok {
		return nil
	}
	s := Plain(outer.Mirror()).With(packet.PeerOut, packet.OneOf(0)).With(packet.PeerIn, pol.peer)
	return p.Forward(p.fromOutside(Start(s), pol.Own, pol.Peer).met(Step{Stage: "decrypt", What: "out of " + pol.Name}))
}
