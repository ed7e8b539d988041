package estate

import (
	"cmp"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
	"sync"

	"toril/ike"
	"toril/model"
	"toril/walk"
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
	Intent   *Intent // what it is for, where that is declared

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

// Between names the two gateways that a tunnel is between, or the one and its peer: tunnels with the same two are one
// business.
func (t *Tunnel) Between() string {
	a := t.Ends[0]
	b := ""
	switch {
	case len(t.Ends) == 2:
		b = t.Ends[1].Gateway.Name
	case t.Toward != nil:
		b = t.Toward.Name
	default:
		b = a.Connection.RemoteAddrs.Value.String() + " " + a.Connection.Remote.ID.Value.String()
	}
	return min(a.Gateway.Name, b) + " and " + max(a.Gateway.Name, b)
}

// Shows returns the identity that an end shows its peer: what is configured, else the address that it speaks from, or the
// subject of its certificate. ok is false where the files do not tell.
func (e End) Shows(own netip.Addr) (id ike.Identity, ok bool) {
	id = e.Connection.Local.ID.Value
	if id.Kind != ike.NoID {
		return id, true
	}
	if e.Connection.Local.Method.Value == ike.Certificate {
		for _, c := range e.Gateway.Certs {
			if !c.CA &&
				slices.ContainsFunc(
					e.Connection.Local.Certificates.Value,
					func(n string) bool { return path.Base(n) == path.Base(c.At.File) },
				) {
				return c.Subject, true
			}
		}
		return id, false
	}
	return ike.Addr(own), own.IsValid()
}

// shows is the identity that an end shows as far as its own configuration tells.
func (e End) shows() ike.Identity {
	id, _ := e.Shows(netip.Addr{})
	return id
}

// Own returns the address that an end speaks from, as far as the configurations say: its own single local address, or
// the one that the far end expects.
func (t *Tunnel) Own(e End) netip.Addr {
	if fixed := e.Connection.LocalAddrs.Value.Fixed(); len(fixed) > 0 {
		return fixed[0]
	}
	if far, ok := t.Far(e); ok {
		if fixed := far.Connection.RemoteAddrs.Value.Fixed(); len(fixed) > 0 {
			return fixed[0]
		}
	}
	return netip.Addr{}
}

// Peer returns the address that an end expects its peer at, or that the far end speaks from.
func (t *Tunnel) Peer(e End) netip.Addr {
	if fixed := e.Connection.RemoteAddrs.Value.Fixed(); len(fixed) > 0 {
		return fixed[0]
	}
	if far, ok := t.Far(e); ok {
		if fixed := far.Connection.LocalAddrs.Value.Fixed(); len(fixed) > 0 {
			return fixed[0]
		}
	}
	return netip.Addr{}
}

// ChildPair is a child of one end and the child of the other that protects the same packets in reverse; one of them is
// nil where there is no such child.
type ChildPair struct{ A, B *model.Child }

// Children pairs the children of both ends: each with the one whose selectors mirror its own best.
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

// mirrored scores how well two children mean each other: 3 exactly mirrored, 2 with something in common both ways, 1
// one way, 0 nothing.
func (t *Tunnel) mirrored(a, b *model.Child) int {
	ownA, peerA := t.Own(t.Ends[0]), t.Peer(t.Ends[0])
	al, ar := a.Local.Value.At(ownA), a.Remote.Value.At(peerA)
	bl, br := b.Local.Value.At(t.Own(t.Ends[1])), b.Remote.Value.At(t.Peer(t.Ends[1]))
	if slices.Equal(al, br) && slices.Equal(ar, bl) {
		return 3
	}
	score := 0
	if len(al.Meet(br)) > 0 {
		score++
	}
	if len(ar.Meet(bl)) > 0 {
		score++
	}
	return score
}

// pairing joins connections into tunnels. Every connection looks up its candidates by address, by identity and by
// selectors, so the work grows with the number of connections and not with its square.
type pairing struct {
	ends     []End
	owners   map[netip.Addr][]*model.Gateway   // who speaks from an address
	byPeer   map[peerKey][]int                 // connections of a gateway by the peer address that they name
	byID     map[idKey][]int                   // and by the identity that they expect
	open     map[*model.Gateway][]int          // those that accept any address and any identity
	byDomain map[domainKey][]int               // by the selectors of their first child, as the far end would write them
	byIDs    map[[2]ike.Identity][]int         // by the identity that they show and the one that they expect
	showing  map[ike.Identity][]*model.Gateway // gateways by the identities that they show
}

type peerKey struct {
	g *model.Gateway
	a netip.Addr
}

type idKey struct {
	g  *model.Gateway
	id ike.Identity
}

type domainKey struct{ local, remote string }

// edge says that two connections may be one tunnel.
type edge struct {
	a, b  int
	score int
	why   string
}

func pair(e *Estate) []*Tunnel {
	p := &pairing{
		owners:   map[netip.Addr][]*model.Gateway{},
		byPeer:   map[peerKey][]int{},
		byID:     map[idKey][]int{},
		open:     map[*model.Gateway][]int{},
		byDomain: map[domainKey][]int{},
		byIDs:    map[[2]ike.Identity][]int{},
		showing:  map[ike.Identity][]*model.Gateway{},
	}
	for _, g := range e.Gateways {
		p.index(g)
	}
	return p.tunnels(p.edges())
}

func (p *pairing) own(g *model.Gateway, a netip.Addr) {
	if !a.IsLoopback() && !slices.Contains(p.owners[a], g) {
		p.owners[a] = append(p.owners[a], g)
	}
}

func (p *pairing) index(g *model.Gateway) {
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			p.own(g, a.Addr())
		}
	}
	for _, c := range g.Connections {
		if shunt(c) {
			continue
		}
		n := len(p.ends)
		p.ends = append(p.ends, End{g, c})
		for _, a := range c.LocalAddrs.Value.Fixed() {
			p.own(g, a)
		}
		for _, a := range c.RemoteAddrs.Value.Fixed() {
			p.byPeer[peerKey{g, a}] = append(p.byPeer[peerKey{g, a}], n)
		}
		if id := c.Remote.ID.Value; id.Definite() {
			p.byID[idKey{g, id}] = append(p.byID[idKey{g, id}], n)
		} else if len(c.RemoteAddrs.Value.Fixed()) == 0 {
			p.open[g] = append(p.open[g], n)
		}
		if id := (End{g, c}).shows(); id.Definite() {
			key := [2]ike.Identity{id, expected(c)}
			p.byIDs[key] = append(p.byIDs[key], n)
			if !slices.Contains(p.showing[id], g) {
				p.showing[id] = append(p.showing[id], g)
			}
		}
		if len(c.Children) > 0 {
			k := domainKey{c.Children[0].Remote.Value.String(), c.Children[0].Local.Value.String()}
			p.byDomain[k] = append(p.byDomain[k], n)
		}
	}
}

// maxAlike is the number of connections with one identity or one domain beyond which these tell nothing.
const maxAlike = 16

// expected is the identity that a connection expects of its peer, the zero Identity where it does not mind.
func expected(c *model.Connection) ike.Identity {
	if id := c.Remote.ID.Value; id.Definite() {
		return id
	}
	return ike.Identity{}
}

// shunt reports whether a connection only holds policies that let packets pass or drop them: it has no peer.
func shunt(c *model.Connection) bool {
	for _, k := range c.Children {
		if !k.Shunts() {
			return false
		}
	}
	return len(c.Children) > 0 && c.RemoteAddrs.Value.Any()
}

// edges finds, for every connection, the connections that may be its far end.
func (p *pairing) edges() []edge {
	var out []edge
	done := map[[2]int]bool{}
	for a, end := range p.ends {
		consider := func(bs []int) {
			for _, b := range bs {
				key := [2]int{min(a, b), max(a, b)}
				if done[key] || p.ends[b].Gateway == end.Gateway {
					continue
				}
				done[key] = true
				if e, ok := p.judge(key[0], key[1]); ok {
					out = append(out, e)
				}
			}
		}
		c := end.Connection
		for _, addr := range c.RemoteAddrs.Value.Fixed() {
			for _, g := range p.owners[addr] {
				for _, own := range c.LocalAddrs.Value.Fixed() {
					consider(p.byPeer[peerKey{g, own}])
				}
				if len(c.LocalAddrs.Value.Fixed()) == 0 {
					for _, own := range addressesOf(end.Gateway) {
						consider(p.byPeer[peerKey{g, own}])
					}
				}
				consider(p.byID[idKey{g, end.shows()}])
				consider(p.open[g])
			}
		}
		if id := c.Remote.ID.Value; id.Definite() {
			consider(p.byIDs[[2]ike.Identity{id, end.shows()}])
			anybody := p.byIDs[[2]ike.Identity{id, {}}]
			consider(anybody[:min(len(anybody), maxAlike)])
		}
		if len(c.Children) > 0 {
			same := p.byDomain[domainKey{c.Children[0].Local.Value.String(), c.Children[0].Remote.Value.String()}]
			consider(same[:min(len(same), maxAlike)])
		}
	}
	slices.SortFunc(out, func(x, y edge) int {
		return cmp.Or(cmp.Compare(y.score, x.score), cmp.Compare(x.a, y.a), cmp.Compare(x.b, y.b))
	})
	return out
}

func addressesOf(g *model.Gateway) []netip.Addr {
	var out []netip.Addr
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			out = append(out, a.Addr())
		}
	}
	return out
}

// judge weighs what speaks for two connections being one tunnel. ok is false where nothing does.
func (p *pairing) judge(a, b int) (edge, bool) {
	x, y := p.ends[a], p.ends[b]
	addrXY, addrYX := p.reaches(x, y), p.reaches(y, x)
	idXY, idYX := expects(x, y), expects(y, x)
	domain := 0
	for _, kx := range x.Connection.Children[:min(len(x.Connection.Children), 8)] {
		for _, ky := range y.Connection.Children[:min(len(y.Connection.Children), 8)] {
			t := &Tunnel{Ends: []End{x, y}}
			domain = max(domain, t.mirrored(kx, ky))
		}
	}
	e := edge{a: a, b: b, score: 8*(addrXY+addrYX) + 4*(idXY+idYX) + domain}
	switch {
	case addrXY == 3 && addrYX == 3:
		e.why = "each names the other's address"
	case idXY == 2 && idYX == 2:
		e.why = "each expects the other's identity"
	case addrXY+addrYX >= 4 && min(addrXY, addrYX) > 0:
		e.why = "one names the other's address, and the other accepts it"
	case domain == 3 && addrXY > 0 && addrYX > 0:
		e.why = "their selectors mirror each other, and no address contradicts it"
	case addrXY == 3 && (idYX == 2 || domain == 3) || addrYX == 3 && (idXY == 2 || domain == 3):
		e.why = "one names the other's address, and the other expects its identity or networks"
	default:
		return e, false
	}
	return e, true
}

// reaches says how well x's idea of its peer's address fits y: 3 exactly, 2 as one of several, 1 not excluded, 0 wrong.
func (p *pairing) reaches(x, y End) int {
	remote := x.Connection.RemoteAddrs.Value
	owns := y.Connection.LocalAddrs.Value.Fixed()
	if len(owns) == 0 {
		owns = addressesOf(y.Gateway)
	}
	best := 0
	for _, r := range remote {
		one, single := r.Single()
		switch {
		case single && slices.Contains(owns, one):
			return 3
		case single && len(owns) == 0 && len(p.owners[one]) == 0:
			best = max(best, 1)
		case single && len(p.owners[one]) == 0 && allPrivate(owns): // the far end may be behind NAT
			best = max(best, 1)
		case r.Any || r.Name != "":
			best = max(best, 1)
		case !single && slices.ContainsFunc(owns, r.Covers):
			best = max(best, 2)
		}
	}
	if len(remote) == 0 {
		return 1
	}
	return best
}

func allPrivate(as []netip.Addr) bool {
	return len(as) > 0 && !slices.ContainsFunc(as, func(a netip.Addr) bool { return !a.IsPrivate() })
}

// expects says how well the identity that x expects fits y: 2 it is y's, 1 any will do, 0 it is another.
func expects(x, y End) int {
	want, shown := x.Connection.Remote.ID.Value, y.shows()
	if shown.Kind == ike.NoID {
		for _, a := range y.Connection.LocalAddrs.Value.Fixed() {
			if want == ike.Addr(a) {
				return 2
			}
		}
	}
	switch {
	case want.Kind == ike.AnyID:
		return 1
	case want == shown:
		return 2
	case want.Wild() && want.Accepts(shown):
		return 2
	}
	return 0
}

// tunnels takes the edges from the strongest down. A connection that accepts any peer may be an end of many tunnels.
func (p *pairing) tunnels(edges []edge) []*Tunnel {
	var out []*Tunnel
	of := make([][]*Tunnel, len(p.ends))
	many := func(n int) bool {
		c := p.ends[n].Connection
		return len(c.RemoteAddrs.Value.Fixed()) == 0 && !c.Remote.ID.Value.Definite()
	}
	free := func(n int) bool { return len(of[n]) == 0 || many(n) }
	strength := map[*Tunnel]int{}
	for _, e := range edges {
		if free(e.a) && free(e.b) && !(many(e.a) && len(of[e.a]) > 0 && many(e.b) && len(of[e.b]) > 0) {
			t := &Tunnel{Ends: []End{p.ends[e.a], p.ends[e.b]}, Reason: e.why}
			of[e.a], of[e.b] = append(of[e.a], t), append(of[e.b], t)
			strength[t] = e.score
			out = append(out, t)
			continue
		}
		for _, side := range [][2]int{{e.a, e.b}, {e.b, e.a}} { // as good a far end as the one that was taken
			for _, t := range of[side[0]] {
				if strength[t] == e.score && !many(side[0]) {
					t.Doubts = append(t.Doubts, fmt.Sprintf("%s matches %s equally well", p.ends[side[1]].Name(), p.ends[side[0]].Name()))
				}
			}
		}
	}
	for n, ts := range of {
		if len(ts) == 0 {
			out = append(out, p.alone(n))
		}
	}
	for _, t := range out {
		slices.SortFunc(t.Ends, func(a, b End) int { return strings.Compare(a.Name(), b.Name()) })
		t.Name = t.Ends[0].Name() + " <> (not given)"
		if t.Toward != nil {
			t.Name = t.Ends[0].Name() + " <> " + t.Toward.Name
		}
		if len(t.Ends) == 2 {
			t.Name = t.Ends[0].Name() + " <> " + t.Ends[1].Name()
		}
	}
	slices.SortFunc(out, func(a, b *Tunnel) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// alone makes the tunnel of a connection whose far end was not found. Its far gateway may be given all the same: by its
// address, or by the identity that is expected.
func (p *pairing) alone(n int) *Tunnel {
	e := p.ends[n]
	t := &Tunnel{Ends: []End{e}, Reason: "no peer for it among the files given"}
	c := e.Connection
	var far []*model.Gateway
	for _, a := range c.RemoteAddrs.Value.Fixed() {
		for _, g := range p.owners[a] {
			if g != e.Gateway && !slices.Contains(far, g) {
				far = append(far, g)
			}
		}
	}
	if id := c.Remote.ID.Value; len(far) == 0 && id.Definite() && len(c.RemoteAddrs.Value.Fixed()) == 0 {
		far = append(far, slices.DeleteFunc(slices.Clone(p.showing[id]), func(g *model.Gateway) bool { return g == e.Gateway })...)
	}
	if len(far) != 1 {
		return t
	}
	t.Toward, t.Reason = far[0], far[0].Name+" is its peer, and has no connection for it"
	for _, u := range far[0].Unloaded {
		p.ends = append(p.ends, End{far[0], u})
		if _, ok := p.judge(n, len(p.ends)-1); ok {
			t.Unloaded, t.Reason = u, far[0].Name+" does not load its connection "+u.Name
		}
		p.ends = p.ends[:len(p.ends)-1]
	}
	return t
}

// Ends returns, for a gateway, the function that walk.NewPath wants: the addresses of every tunnel that a connection is
// an end of. A connection of no tunnel, which only lets packets pass or drops them, has one pair of unknown addresses.
func (e *Estate) Ends(g *model.Gateway) func(*model.Connection) []walk.Ends {
	of := map[*model.Connection][]walk.Ends{}
	for _, t := range e.TunnelsOf(g) {
		for _, end := range t.Ends {
			if end.Gateway == g {
				of[end.Connection] = append(of[end.Connection], walk.Ends{Own: t.Own(end), Peer: t.Peer(end)})
			}
		}
	}
	return func(c *model.Connection) []walk.Ends {
		if len(of[c]) == 0 {
			return []walk.Ends{{}}
		}
		return of[c]
	}
}
