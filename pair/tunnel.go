package pair

import (
	"net/netip"
	"slices"
	"sync"

	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/packet"
)

// End is one end of a tunnel: a connection of a gateway.
type End struct {
	Gateway    *model.Gateway
	Connection *model.Connection
}

// Name returns "gateway/connection".
func (e End) Name() string { return e.Gateway.Name + "/" + e.Connection.Name }

// Tunnel is two connections that mean each other, or one whose far end was not given.
type Tunnel struct {
	Name   string
	Ends   []End    // one or two
	Reason string   // why these two belong together
	Doubts []string // far ends that fit just as well
	// Toward is the far gateway of a tunnel with one end, where that was given and has no connection for this one.
	Toward *model.Gateway
	// Unloaded is a connection of that gateway's that would be the far end, and that its daemon never loads.
	Unloaded *model.Connection
	Intent   *estate.Intent // what it is for, where that is declared

	once     sync.Once
	children []ChildPair
}

// Far returns the other end of the tunnel; ok is false where it was not given.
func (t *Tunnel) Far(e End) (End, bool) {
	if len(t.Ends) < 2 {
		return End{}, false
	}
	if t.Ends[0] == e {
		return t.Ends[1], true
	}
	return t.Ends[0], true
}

// Between names the two gateways that a tunnel is between, or the one and its peer: tunnels with the same two are one business.
func (t *Tunnel) Between() string {
	a := t.Ends[0]
	switch {
	case len(t.Ends) == 2:
		return between(a.Gateway.Name, t.Ends[1].Gateway.Name)
	case t.Toward != nil:
		return between(a.Gateway.Name, t.Toward.Name)
	}
	return toward(a.Gateway.Name, a.Connection.RemoteAddrs.Value, a.Connection.Remote.ID.Value)
}

func between(a, b string) string { return min(a, b) + " and " + max(a, b) }

func toward(a string, peer model.Addresses, id ike.Identity) string {
	return between(a, peer.String()+" "+id.String())
}

// Shows returns the identity that an end shows its peer, sending from an address. ok is false where the files do not tell.
func (e End) Shows(own netip.Addr) (id ike.Identity, ok bool) {
	return e.Gateway.Shows(e.Connection, own)
}

// Own returns the address that an end sends from, as far as the configurations say: its own single local address, or
// the one that the far end expects; behind NAT, where that is none of its own, the one that it has inside.
func (t *Tunnel) Own(e End) netip.Addr {
	far, _ := t.Far(e)
	return addressInUse(e.Connection.LocalAddrs.Value, far.remote(), e.Gateway.Inside(), e.Gateway.Has)
}

// Peer returns the address that an end expects its peer at, or that the far end sends from.
func (t *Tunnel) Peer(e End) netip.Addr {
	far, _ := t.Far(e)
	return single(e.Connection.RemoteAddrs.Value, far.local())
}

// BehindNAT reports whether an end's address must be translated on its way: it is private, its peer's is public, and the far end, where
// that was given, does not expect the private one.
func (t *Tunnel) BehindNAT(e End) bool {
	far, _ := t.Far(e)
	return Translated(t.Own(e), t.Peer(e), far.remote())
}

// InUDP reports whether the ESP packets of an end go in UDP (RFC 3948): it is set so, or one end is behind NAT.
func (t *Tunnel) InUDP(e End) bool {
	far, given := t.Far(e)
	return e.Connection.Encap.Value || t.BehindNAT(e) ||
		given && (far.Connection.Encap.Value || t.BehindNAT(far))
}

// Translated reports whether an address must be translated on its way to another: it is private, the other is public, and who is there does
// not expect it.
func Translated(own, to netip.Addr, expected model.Addresses) bool {
	if !own.IsValid() || !to.IsValid() || !own.IsPrivate() || to.IsPrivate() || to.IsLoopback() || own.BitLen() != to.BitLen() {
		return false
	}
	return !slices.ContainsFunc(expected, func(a model.Address) bool { return !a.Any && a.Covers(own) })
}

func (e End) local() model.Addresses {
	if e.Connection == nil {
		return nil
	}
	return e.Connection.LocalAddrs.Value
}

func (e End) remote() model.Addresses {
	if e.Connection == nil {
		return nil
	}
	return e.Connection.RemoteAddrs.Value
}

// addressInUse is the address that an end sends from: the first single one that it says itself, else that its far end says of it, unless
// has reports that to be none of its own; then it is translated from the one inside, where that is known.
func addressInUse(said, expected model.Addresses, inside netip.Addr, has func(netip.Addr) bool) netip.Addr {
	a := single(said, expected)
	if inside.IsValid() && !single(said, nil).IsValid() && a.Is4() && !a.IsPrivate() && !has(a) {
		return inside
	}
	return a
}

// single is the first single address of what an end says itself, else of what its far end says of it.
func single(said, expected model.Addresses) netip.Addr {
	for _, as := range []model.Addresses{said, expected} {
		for _, a := range as {
			if one, ok := a.Single(); ok {
				return one
			}
		}
	}
	return netip.Addr{}
}

// ChildPair is a child of one end and the child of the other that protects the same packets in reverse; one of them is
// nil where there is no such child.
type ChildPair struct{ A, B *model.Child }

// Names are the names of the two; "" for the one that is not there.
func (p ChildPair) Names() (names [2]string) {
	for i, k := range []*model.Child{p.A, p.B} {
		if k != nil {
			names[i] = k.Name
		}
	}
	return names
}

// Children pairs the children of both ends: each with the one whose selectors mirror its own best. The list must not be changed.
func (t *Tunnel) Children() []ChildPair {
	t.once.Do(func() { t.children = t.pairChildren() })
	return t.children
}

// pairChildren joins the children that mean each other most closely first. Those that let pass or drop are no party to the peer.
func (t *Tunnel) pairChildren() []ChildPair {
	as := negotiated(t.Ends[0].Connection.Children)
	var bs []*model.Child
	if len(t.Ends) > 1 {
		bs = negotiated(t.Ends[1].Connection.Children)
	}
	ofA, ofB := make([]*model.Child, len(as)), map[*model.Child]bool{}
	for score := 3; score >= 0; score-- {
		if score == 0 && len(as)+len(bs) > 2 {
			break // nothing in common, and not the only ones
		}
		for i, ca := range as {
			for _, cb := range bs {
				if ofA[i] == nil && !ofB[cb] && t.mirrored(ca, cb) == score {
					ofA[i], ofB[cb] = cb, true
				}
			}
		}
	}
	var out []ChildPair
	for i, ca := range as {
		out = append(out, ChildPair{ca, ofA[i]})
	}
	for _, cb := range bs {
		if !ofB[cb] {
			out = append(out, ChildPair{B: cb})
		}
	}
	return out
}

// negotiated are the children that are agreed on with the peer.
func negotiated(ks []*model.Child) []*model.Child {
	return slices.DeleteFunc(slices.Clone(ks), func(k *model.Child) bool { return k.Shunts() })
}

// Begins reports whether an end sets a child of its own up by itself: it is told to, and knows where its peer is.
func (e End) Begins(k *model.Child) bool {
	addrs := e.Connection.RemoteAddrs.Value
	return k.Start.Value != model.StartNever && (len(addrs.Fixed()) > 0 || !addrs.Any())
}

// Waits reports whether there are children that both ends have, and neither end sets any of them up by itself.
func (t *Tunnel) Waits() bool {
	both := false
	for _, c := range t.Children() {
		if c.A == nil || c.B == nil {
			continue
		}
		if both = true; t.Ends[0].Begins(c.A) || t.Ends[1].Begins(c.B) {
			return false
		}
	}
	return both
}

// Counterparts are the children of the far end that are paired with a child; of one that answers for several of the far end's
// it may be more than one.
func (t *Tunnel) Counterparts(k *model.Child) []*model.Child {
	var out []*model.Child
	for _, pair := range t.Children() {
		switch {
		case pair.A == k && pair.B != nil:
			out = append(out, pair.B)
		case pair.B == k && pair.A != nil:
			out = append(out, pair.A)
		}
	}
	return out
}

// Sharing are the children of the far end that protect packets of a child in reverse: those that are paired with it, and those that are
// paired with none and that it answers for.
func (t *Tunnel) Sharing(k *model.Child) []*model.Child {
	out, mine := t.Counterparts(k), slices.Contains(t.Ends[0].Connection.Children, k)
	for _, pair := range t.Children() {
		switch {
		case mine && pair.A == nil && t.mirrored(k, pair.B) >= 2:
			out = append(out, pair.B)
		case !mine && pair.B == nil && t.mirrored(pair.A, k) >= 2:
			out = append(out, pair.A)
		}
	}
	return out
}

// mirrored scores how well two children mean each other.
func (t *Tunnel) mirrored(a, b *model.Child) int {
	x, y := t.Ends[0], t.Ends[1]
	return mirrored(a.Local.Value.At(t.Own(x)), a.Remote.Value.At(t.Peer(x)), b.Local.Value.At(t.Own(y)), b.Remote.Value.At(t.Peer(y)))
}

// mirrored scores how well the selectors of two children mean each other: 3 exactly mirrored, 2 with something in common both ways, 1 one
// way, 0 nothing.
func mirrored(localA, remoteA, localB, remoteB ike.Selectors) int {
	if slices.Equal(localA, remoteB) && slices.Equal(remoteA, localB) {
		return 3
	}
	score := 0
	if len(localA.Meet(remoteB)) > 0 {
		score++
	}
	if len(remoteA.Meet(localB)) > 0 {
		score++
	}
	return score
}

// Meant are the declared flows of a tunnel, as one of its gateways sees them: new connections that go out through the
// tunnel, and those that come out of it.
type Meant struct{ Out, In packet.Set }

// Intended returns what is declared to pass a tunnel, seen from one of its ends; declared is false where nothing is. A
// flow goes out at the end whose local networks hold its source.
func (t *Tunnel) Intended(e End) (m Meant, declared bool) {
	if t.Intent == nil || len(t.Intent.Allow) == 0 {
		return m, false
	}
	own, peer := t.Own(e), t.Peer(e)
	out := packet.None()
	for _, k := range e.Connection.Children {
		out = out.Or(k.Domain(own, peer))
	}
	for _, a := range t.Intent.Allow {
		m.Out = m.Out.Or(a.Packets.And(out))
		m.In = m.In.Or(a.Packets.And(out.Mirror()))
	}
	return m, true
}

// Meant are the declared flows of a tunnel whose networks are not told by its selectors: those that go out, given all that it
// carries on their way in, and those that come out of it.
func (t *Tunnel) Meant(out packet.Set) (m Meant, declared bool) {
	if t.Intent == nil || len(t.Intent.Allow) == 0 {
		return m, false
	}
	for _, a := range t.Intent.Allow {
		m.Out = m.Out.Or(a.Packets.And(out))
		m.In = m.In.Or(a.Packets.And(out.Mirror()))
	}
	return m, true
}
