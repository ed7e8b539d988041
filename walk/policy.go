package walk

import (
	"net/netip"
	"strconv"
	"strings"

	"toril/gateway"
	"toril/ike"
	"toril/packet"
)

// Policy is an IPsec policy as the daemon puts it into the kernel for a child.
type Policy struct {
	Name       string // "connection/child"
	Child      *gateway.Child
	Connection *gateway.Connection
	Own, Peer  netip.Addr
	Domain     packet.Set // the plain packets that it is for, on their way out
	IfID       uint32     // only packets that leave by the xfrm interface of this number
	Up         bool       // an SA stands
	narrow     int        // how narrow its selectors are
	back       packet.Set // the packets that come out of it
}

// Protects reports whether the policy encrypts: it neither lets packets pass in clear nor drops them.
func (p *Policy) Protects() bool { return !p.passes() && !p.drops() }

// Back are the packets that come out of the policy's tunnel, in clear again.
func (p *Policy) Back() packet.Set { return p.back }

// peer is what packets of the policy have as their IPsec peer: its address, or one that stands for some.
func (p *Policy) peer() packet.Values {
	if p.Peer.IsValid() {
		return packet.Addresses(p.Peer, p.Peer)
	}
	return packet.Numbers(1, 1)
}

// Peered are the packets whose field, PeerIn or PeerOut, is a peer: of that address, or of any where it is not known.
func Peered(f packet.Field, peer netip.Addr) packet.Set {
	if peer.IsValid() {
		return packet.Where(f, packet.Addresses(peer, peer))
	}
	return packet.Where(f, packet.OneOf(0)).Not()
}

// passes reports whether the policy lets packets by in clear, or drops them, and protects none.
func (p *Policy) passes() bool { return p.Child.Mode.Value == ike.Pass }
func (p *Policy) drops() bool  { return p.Child.Mode.Value == ike.Drop }

// policy adds what the daemon installs for a child that is up or caught by traffic, or that lets pass or drops. A child
// that waits and is down has none.
func (p *Path) policy(c *gateway.Connection, k *gateway.Child, e Ends, opts Options) {
	if !k.Policies.Value || c.Unusable != nil {
		return
	}
	pol := &Policy{Name: c.Name + "/" + k.Name, Child: k, Connection: c, Own: e.Own, Peer: e.Peer, Domain: k.Domain(e.Own, e.Peer), IfID: k.IfIDOut.Value}
	pol.Up = opts.Down == nil || !opts.Down(k)
	if pol.Protects() && !pol.Up && !k.Start.Value.Traps() {
		return
	}
	if mark, mask, ok := markOf(k.MarkOut.Value); ok {
		if v, ok := packet.Masked(mark, mask); ok {
			pol.Domain = pol.Domain.With(packet.Mark, v)
		}
	}
	pol.narrow = specific(pol)
	pol.back = pol.Domain.Free(packet.Mark).Mirror()
	p.Policies = append(p.Policies, pol)
}

// precedence orders policies that let pass before those that protect.
func precedence(p *Policy) int {
	if p.passes() {
		return 0
	}
	return 1
}

// specific is how narrow a policy's selectors are: the daemon asks the narrower first.
func specific(p *Policy) int {
	n := 0
	for _, ss := range []ike.Selectors{p.Child.Local.Value.At(p.Own), p.Child.Remote.Value.At(p.Peer)} {
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

// markOf reads "value" or "value/mask", decimal or hexadecimal; ok is false where no mark is set.
func markOf(s string) (value, mask uint32, ok bool) {
	if s == "" {
		return 0, 0, false
	}
	v, m, masked := strings.Cut(s, "/")
	n, err := strconv.ParseUint(v, 0, 32)
	if err != nil {
		return 0, 0, false
	}
	k := uint64(1<<32 - 1)
	if masked {
		if k, err = strconv.ParseUint(m, 0, 32); err != nil {
			return 0, 0, false
		}
	}
	return uint32(n), uint32(k), n != 0 || masked && k != 0
}

// routesOf are the routes that strongSwan installs for a policy: to the remote networks by where the peer is, in a table of
// its own, if the gateway has an address in the local networks.
func (p *Path) routesOf(pol *Policy) []*gateway.Route {
	if pol.Connection.Software != "strongSwan" || p.Gateway.Options.NoRoutes.Value || pol.IfID != 0 || pol.passes() || pol.drops() || !p.router.known || !pol.Peer.IsValid() {
		return nil
	}
	local := pol.Child.Local.Value.At(pol.Own)
	inside := false
	for _, i := range p.Gateway.Interfaces {
		for _, a := range i.Addresses {
			inside = inside || local.Hold(a.Addr()) && !a.Addr().IsLoopback()
		}
	}
	if !inside {
		return nil
	}
	var out []*gateway.Route
	for _, h := range p.router.Decide(Start(packet.Range(packet.Dst, pol.Peer, pol.Peer))) {
		if h.kind != "unicast" {
			continue
		}
		for _, to := range pol.Child.Remote.Value.At(pol.Peer).Packets().Prefixes(packet.Src) {
			out = append(out, &gateway.Route{At: pol.Child.At, To: to, Via: h.via, Dev: h.dev, Kind: "unicast", Table: daemonTable, Origin: daemonOrigin})
		}
		break
	}
	return out
}
