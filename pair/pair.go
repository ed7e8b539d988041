// Package pair finds out which connections mean each other, from the facts that an estate keeps of its gateways, and opens both ends of a
// tunnel when they are asked for.
package pair

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"toril/estate"
	"toril/ike"
	"toril/internal/cache"
	"toril/internal/spread"
)

// Side is one end of a match: a connection of a gateway, as the facts tell of it.
type Side struct {
	Gateway    *estate.Facts
	Connection *estate.Connection
	place      int // in the gateway's Connections, or Unloaded
}

// Name returns "gateway/connection".
func (s Side) Name() string { return s.Gateway.Name + "/" + s.Connection.Name }

// Match is two connections that mean each other, or one whose far end was not given: what is known of a tunnel without its gateways.
type Match struct {
	Name   string
	Number int      // in Estate.Matches
	Sides  []Side   // one or two
	Reason string   // why these two belong together
	Doubts []string // far ends that fit just as well
	// Toward is the far gateway of a match with one side, where that was given and has no connection for this one.
	Toward   *estate.Facts
	Intent   *estate.Intent // what it is for, where that is declared
	unloaded *Side          // a connection of that gateway's that would be the far end, and that its daemon never loads
	room     [2]Side        // where Sides are
}

// matchOf makes a match of its sides.
func matchOf(reason string, sides ...Side) *Match {
	m := &Match{Reason: reason}
	m.Sides = m.room[:copy(m.room[:], sides)]
	return m
}

// Own returns the address that a side sends from, as Tunnel.Own does.
func (m *Match) Own(side int) netip.Addr {
	g := m.Sides[side].Gateway
	has := func(a netip.Addr) bool { return slices.Contains(g.Addresses, a) }
	return addressInUse(m.Sides[side].Connection.Local, m.far(side).Remote, g.Inside, has)
}

// Peer returns the address that a side expects its peer at, as Tunnel.Peer does.
func (m *Match) Peer(side int) netip.Addr {
	return single(m.Sides[side].Connection.Remote, m.far(side).Local)
}

// InUDP reports whether the ESP packets of a tunnel go in UDP, as Tunnel.InUDP does.
func (m *Match) InUDP(side int) bool {
	own, peer, far := m.Own(side), m.Peer(side), m.far(side)
	if m.Sides[side].Connection.Encap || far.Encap || Translated(own, peer, far.Remote) {
		return true
	}
	return len(m.Sides) == 2 && Translated(m.Own(1-side), m.Peer(1-side), m.Sides[side].Connection.Remote)
}

// far is the connection of the other side; an empty one where there is none.
func (m *Match) far(side int) *estate.Connection {
	if len(m.Sides) < 2 {
		return &estate.Connection{}
	}
	return m.Sides[1-side].Connection
}

// Between names the two gateways that a match is between, as Tunnel.Between does.
func (m *Match) Between() string {
	a := m.Sides[0]
	switch {
	case len(m.Sides) == 2:
		return between(a.Gateway.Name, m.Sides[1].Gateway.Name)
	case m.Toward != nil:
		return between(a.Gateway.Name, m.Toward.Name)
	}
	return toward(a.Gateway.Name, a.Connection.Remote, a.Connection.Expects)
}

// pairing joins connections into matches. Every connection looks up its candidates by address, by identity and by
// selectors, so the work grows with the number of connections and not with its square.
type pairing struct {
	ends     []Side
	said     []said                           // by each of the ends
	owners   map[netip.Addr][]*estate.Facts   // who sends from an address
	byPeer   map[peerKey][]int                // connections of a gateway by the peer address that they name
	byID     map[idKey][]int                  // and by the identity that they expect
	open     map[*estate.Facts][]int          // those that accept any address and any identity
	byDomain map[domainKey][]int              // by the selectors of their first child, as the far end would write them
	byIDs    map[[2]ike.Identity][]int        // by the identity that they show and the one that they expect
	showing  map[ike.Identity][]*estate.Facts // gateways by the identities that they show
	later    []int                            // connections with so many candidates that not all of them were looked at
}

// said is what a connection says, in the form in which it is looked up.
type said struct {
	local, remote []netip.Addr // the single addresses
	own, far      domainKey    // of its first child, as it writes the selectors and as the far end would; empty where it has none
}

func saidBy(c *estate.Connection) said {
	out := said{local: c.Local.Fixed(), remote: c.Remote.Fixed()}
	if len(c.Children) > 0 {
		out.own = domainKey{c.Children[0].Local.String(), c.Children[0].Remote.String()}
		out.far = domainKey{out.own.remote, out.own.local}
	}
	return out
}

type peerKey struct {
	g *estate.Facts
	a netip.Addr
}

type idKey struct {
	g  *estate.Facts
	id ike.Identity
}

type domainKey struct{ local, remote string }

// edge says that two connections may be one tunnel.
type edge struct {
	a, b  int
	score int
	why   string
}

// matches pairs the connections of gateways.
func matches(gateways []*estate.Facts) []*Match {
	p := &pairing{
		owners:   map[netip.Addr][]*estate.Facts{},
		byPeer:   map[peerKey][]int{},
		byID:     map[idKey][]int{},
		open:     map[*estate.Facts][]int{},
		byDomain: map[domainKey][]int{},
		byIDs:    map[[2]ike.Identity][]int{},
		showing:  map[ike.Identity][]*estate.Facts{},
	}
	of := make([][]said, len(gateways))
	spread.InShares(len(gateways), share, func(i int) {
		for k := range gateways[i].Connections {
			of[i] = append(of[i], saidBy(&gateways[i].Connections[k]))
		}
	})
	for i, g := range gateways {
		p.index(g, of[i])
	}
	return p.matches(p.edges(nil))
}

// share is how many gateways or connections one processor looks at before it takes others.
const share = 64

func (p *pairing) own(g *estate.Facts, a netip.Addr) {
	if !a.IsLoopback() && !slices.Contains(p.owners[a], g) {
		p.owners[a] = append(p.owners[a], g)
	}
}

// index enters a gateway, with what each of its connections says.
func (p *pairing) index(g *estate.Facts, all []said) {
	for _, a := range g.Addresses {
		p.own(g, a)
	}
	for i := range g.Connections {
		c := &g.Connections[i]
		if c.Shunts() {
			continue
		}
		n, says := len(p.ends), all[i]
		p.ends, p.said = append(p.ends, Side{g, c, i}), append(p.said, says)
		for _, a := range says.local {
			p.own(g, a)
		}
		for _, a := range says.remote {
			p.byPeer[peerKey{g, a}] = append(p.byPeer[peerKey{g, a}], n)
		}
		if id := c.Expects; id.Definite() {
			p.byID[idKey{g, id}] = append(p.byID[idKey{g, id}], n)
		} else if len(says.remote) == 0 {
			p.open[g] = append(p.open[g], n)
		}
		if id := c.Shows; id.Definite() {
			key := [2]ike.Identity{id, expected(c)}
			p.byIDs[key] = append(p.byIDs[key], n)
			if !slices.Contains(p.showing[id], g) {
				p.showing[id] = append(p.showing[id], g)
			}
		}
		if len(c.Children) > 0 {
			p.byDomain[says.far] = append(p.byDomain[says.far], n)
		}
	}
}

// maxAlike is the number of connections with one identity or one domain beyond which these tell nothing.
const maxAlike = 16

// maxOwners is the number of gateways with one address beyond which that tells nothing.
const maxOwners = 64

// maxDoubts is how many other far ends of a connection are named.
const maxDoubts = 16

// expected is the identity that a connection expects of its peer, the zero Identity where it does not mind.
func expected(c *estate.Connection) ike.Identity {
	if id := c.Expects; id.Definite() {
		return id
	}
	return ike.Identity{}
}

// edges finds, for every connection, the connections that may be its far end. Where it has many candidates between the same addresses, and
// some of them mirror its selectors or expect its identity, it takes those. left names the connections that are left after that: all of
// their candidates are looked at that are left too; nil for the first time.
func (p *pairing) edges(left func(int) bool) []edge {
	looked, put := make([][]int, len(p.ends)), make([]bool, len(p.ends))
	spread.InShares(len(p.ends), share, func(a int) {
		if left == nil || left(a) {
			looked[a], put[a] = p.candidates(a, left)
		}
	})
	of := make([][]edge, len(p.ends))
	spread.InShares(len(p.ends), share, func(a int) {
		for _, b := range looked[a] {
			if b < a {
				if _, twice := slices.BinarySearch(looked[b], a); twice {
					continue
				}
			}
			if e, ok := p.judge(min(a, b), max(a, b)); ok {
				of[a] = append(of[a], e)
			}
		}
	})
	out := slices.Concat(of...)
	for a := range put {
		if put[a] {
			p.later = append(p.later, a)
		}
	}
	slices.SortFunc(out, func(x, y edge) int {
		return cmp.Or(cmp.Compare(y.score, x.score), cmp.Compare(x.a, y.a), cmp.Compare(x.b, y.b))
	})
	return out
}

// candidates are the connections that may be the far end of one, as edges says, in their order; put reports whether there are more.
func (p *pairing) candidates(a int, left func(int) bool) (out []int, put bool) {
	end, says := p.ends[a], p.said[a]
	consider := func(bs []int) {
		if len(bs) > maxAlike && left == nil {
			if alike := p.alike(a, bs); len(alike) > 0 {
				bs, put = alike, true
			}
		}
		for _, b := range bs {
			if (left == nil || left(b)) && p.ends[b].Gateway != end.Gateway {
				out = append(out, b)
			}
		}
	}
	c := end.Connection
	for _, addr := range says.remote {
		if len(p.owners[addr]) > maxOwners {
			continue
		}
		for _, g := range p.owners[addr] {
			for _, own := range says.local {
				consider(p.byPeer[peerKey{g, own}])
			}
			if len(says.local) == 0 {
				for _, own := range end.Gateway.Addresses {
					consider(p.byPeer[peerKey{g, own}])
				}
			}
			consider(p.byID[idKey{g, c.Shows}])
			consider(p.open[g])
		}
	}
	if id := c.Expects; id.Definite() {
		if same := p.byIDs[[2]ike.Identity{id, c.Shows}]; len(same) <= maxAlike*maxAlike { // of more nothing tells one from another
			consider(same)
		}
		anybody := p.byIDs[[2]ike.Identity{id, {}}]
		consider(anybody[:min(len(anybody), maxAlike)])
	}
	if len(c.Children) > 0 {
		same := p.byDomain[says.own]
		consider(same[:min(len(same), maxAlike)])
	}
	slices.Sort(out)
	return slices.Compact(out), put
}

// alike are those of a connection's candidates that mirror the selectors of its first child, or expect each the other's identity.
func (p *pairing) alike(a int, bs []int) []int {
	c := p.ends[a].Connection
	var good []int
	if len(c.Children) > 0 {
		good = append(good, p.byDomain[p.said[a].own]...)
	}
	if id := c.Expects; id.Definite() && c.Shows.Definite() {
		good = append(good, p.byIDs[[2]ike.Identity{id, c.Shows}]...)
	}
	if len(good) > maxAlike*maxAlike { // no help
		return nil
	}
	slices.Sort(good)
	var out []int
	for _, b := range slices.Compact(good) {
		if _, is := slices.BinarySearch(bs, b); is { // they are in the order of the connections
			out = append(out, b)
		}
	}
	return out
}

// judge weighs the evidence that two connections are one tunnel. ok is false where nothing does.
func (p *pairing) judge(a, b int) (edge, bool) {
	x, y := p.ends[a], p.ends[b]
	addrXY, addrYX := p.reaches(x, y), p.reaches(y, x)
	idXY, idYX := expects(x, y), expects(y, x)
	m := matchOf("", x, y)
	ownX, peerX, ownY, peerY := m.Own(0), m.Peer(0), m.Own(1), m.Peer(1)
	domain := 0
	for _, kx := range x.Connection.Children[:min(len(x.Connection.Children), 8)] {
		for _, ky := range y.Connection.Children[:min(len(y.Connection.Children), 8)] {
			domain = max(domain, mirrored(kx.Local.At(ownX), kx.Remote.At(peerX), ky.Local.At(ownY), ky.Remote.At(peerY)))
		}
	}
	e := edge{a: a, b: b, score: 16*(addrXY+addrYX) + 8*(idXY+idYX) + 2*domain + oneVersion(x.Connection, y.Connection)}
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

// oneVersion is 1 where two connections have a version of IKE in common, else 0.
func oneVersion(x, y *estate.Connection) int {
	if x.Version == y.Version || x.Version == ike.Either || y.Version == ike.Either {
		return 1
	}
	return 0
}

// reaches says how well x's idea of its peer's address fits y: 3 exactly, 2 as one of several, 1 not excluded, 0 wrong.
func (p *pairing) reaches(x, y Side) int {
	remote := x.Connection.Remote
	owns := y.Connection.Local.Fixed()
	if len(owns) == 0 {
		owns = y.Gateway.Addresses
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

// allPrivate reports whether a gateway has private addresses alone, beside those that are of no use outside.
func allPrivate(as []netip.Addr) bool {
	private := false
	for _, a := range as {
		switch {
		case a.IsPrivate():
			private = true
		case !a.IsLoopback() && !a.IsLinkLocalUnicast():
			return false
		}
	}
	return private
}

// expects says how well the identity that x expects fits y: 2 it is y's, 1 any will do, 0 it is another.
func expects(x, y Side) int {
	want, shown := x.Connection.Expects, y.Connection.Shows
	if shown.Kind == ike.NoID {
		for _, a := range y.Connection.Local.Fixed() {
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

// matches takes the edges from the strongest down. A connection that accepts any peer may be an end of many tunnels.
func (p *pairing) matches(edges []edge) []*Match {
	var out []*Match
	of := make([][]*Match, len(p.ends))
	many := func(n int) bool {
		c := p.ends[n].Connection
		return len(c.Remote.Fixed()) == 0 && !c.Expects.Definite()
	}
	free := func(n int) bool { return len(of[n]) == 0 || many(n) }
	strength := map[*Match]int{}
	take := func(edges []edge) {
		for _, e := range edges {
			if free(e.a) && free(e.b) && !(many(e.a) && len(of[e.a]) > 0 && many(e.b) && len(of[e.b]) > 0) {
				m := matchOf(e.why, p.ends[e.a], p.ends[e.b])
				of[e.a], of[e.b] = append(of[e.a], m), append(of[e.b], m)
				strength[m] = e.score
				out = append(out, m)
				continue
			}
			for _, side := range [][2]int{{e.a, e.b}, {e.b, e.a}} { // as good a far end as the one that was taken
				for _, m := range of[side[0]] {
					if strength[m] == e.score && !many(side[0]) && len(m.Doubts) < maxDoubts {
						other, own := p.ends[side[1]].Name(), p.ends[side[0]].Name()
						m.Doubts = append(m.Doubts, fmt.Sprintf("%s matches %s equally well", other, own))
					}
				}
			}
		}
	}
	take(edges)
	if slices.ContainsFunc(p.later, func(n int) bool { return len(of[n]) == 0 }) {
		take(p.edges(free))
	}
	for n, ts := range of {
		if len(ts) == 0 {
			out = append(out, p.alone(n))
		}
	}
	for _, m := range out {
		slices.SortFunc(m.Sides, func(a, b Side) int { return strings.Compare(a.Name(), b.Name()) })
		m.Name = m.Sides[0].Name() + " <> (not given)"
		if m.Toward != nil {
			m.Name = m.Sides[0].Name() + " <> " + m.Toward.Name
		}
		if len(m.Sides) == 2 {
			m.Name = m.Sides[0].Name() + " <> " + m.Sides[1].Name()
		}
	}
	slices.SortFunc(out, func(a, b *Match) int { return strings.Compare(a.Name, b.Name) })
	room := make([]Match, len(out)) // side by side, and their sides with them
	for i, m := range out {
		room[i] = *m
		room[i].Sides = room[i].room[:copy(room[i].room[:], m.Sides)]
		out[i] = &room[i]
	}
	return out
}

// alone makes the tunnel of a connection whose far end was not found. Its far gateway may be given all the same: by its
// address, or by the identity that is expected.
func (p *pairing) alone(n int) *Match {
	e := p.ends[n]
	m := matchOf("no peer for it among the files given", e)
	c := e.Connection
	var far []*estate.Facts
	for _, a := range c.Remote.Fixed() {
		for _, g := range p.owners[a] {
			if len(far) < 2 && g != e.Gateway && !slices.Contains(far, g) {
				far = append(far, g)
			}
		}
	}
	if id := c.Expects; len(far) == 0 && id.Definite() && len(c.Remote.Fixed()) == 0 {
		far = append(far, slices.DeleteFunc(slices.Clone(p.showing[id]), func(g *estate.Facts) bool { return g == e.Gateway })...)
	}
	if len(far) != 1 {
		return m
	}
	m.Toward, m.Reason = far[0], far[0].Name+" is its peer, and has no connection for it"
	for i := range far[0].Unloaded {
		u := Side{far[0], &far[0].Unloaded[i], i}
		p.ends = append(p.ends, u)
		if _, ok := p.judge(n, len(p.ends)-1); ok {
			m.unloaded, m.Reason = &u, far[0].Name+" does not load its connection "+u.Connection.Name
		}
		p.ends = p.ends[:len(p.ends)-1]
	}
	return m
}

// Describe adds to a digest which connections a match is of, and why: with the digests of their gateways, all that is known of it.
func (m *Match) Describe(s *cache.Sum) {
	s.Text(m.Name, m.Reason, strconv.Itoa(len(m.Doubts)), strconv.Itoa(len(m.Sides)))
	s.Text(m.Doubts...)
	for _, side := range m.Sides {
		s.Text(side.Gateway.Name, side.Connection.Name, strconv.Itoa(side.place))
	}
	if m.Toward != nil {
		s.Text("toward", m.Toward.Name)
	}
	if m.unloaded != nil {
		s.Text("unloaded", strconv.Itoa(m.unloaded.place))
	}
	if m.Intent != nil {
		s.Text("intent", m.Intent.At.String())
	}
}
