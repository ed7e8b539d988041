package model

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strconv"
	"sync"

	"toril/source"
)

// index finds what several files may say parts of.
type index struct {
	filesOnce sync.Once
	files     map[string]*File

	interfaces map[string]*Interface
	routes     map[routeKey]*Route
	sets       map[string]*NamedSet
	defined    map[[2]string]*Definition
	once       sync.Once
	byPeer     map[netip.Addr][]*Connection // loaded connections by the single addresses of their peers
	byNone     []*Connection                // and those whose peer is not at single addresses alone
	keysOnce   sync.Once
	keys       keyIndex
	insideOnce sync.Once
	inside     netip.Addr
	lacksOnce  sync.Once
	lacks      *Lacking
	seenOnce   sync.Once
	seen       seenIndex
}

// InterfaceOf returns the interface of a name, made where there is none yet: several files may say parts of it.
func (g *Gateway) InterfaceOf(name string, at source.Pos) *Interface {
	name = source.Clean(name)
	if g.index.interfaces == nil {
		g.index.interfaces = map[string]*Interface{}
	}
	i := g.index.interfaces[name]
	if i == nil {
		i = &Interface{Name: name, At: at}
		g.index.interfaces[name] = i
		g.Interfaces = append(g.Interfaces, i)
	}
	return i
}

// Accepting returns the loaded connections whose peer may be at an address, in the order of the files; for an unknown
// address all of them. The gateway must be complete.
func (g *Gateway) Accepting(peer netip.Addr) []*Connection {
	if !peer.IsValid() {
		return g.Connections
	}
	g.index.once.Do(func() {
		g.index.byPeer = map[netip.Addr][]*Connection{}
		for _, c := range g.Connections {
			single := len(c.RemoteAddrs.Value) > 0
			for _, a := range c.RemoteAddrs.Value {
				one, ok := a.Single()
				single = single && ok
				if of := g.index.byPeer[one]; ok && (len(of) == 0 || of[len(of)-1] != c) { // an address may be named twice
					g.index.byPeer[one] = append(of, c)
				}
			}
			if !single {
				g.index.byNone = append(g.index.byNone, c)
			}
		}
	})
	var out []*Connection
	for _, c := range g.index.byNone {
		if as := c.RemoteAddrs.Value; as.Any() ||
			slices.ContainsFunc(as, func(a Address) bool { return a.Name != "" || a.Covers(peer) }) {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		return g.index.byPeer[peer]
	}
	seen := make(map[*Connection]bool, len(out))
	for _, c := range out {
		seen[c] = true
	}
	for _, c := range g.index.byPeer[peer] {
		if !seen[c] {
			out = append(out, c)
		}
	}
	return out
}

// AddAddress adds an address with its network, once.
func (i *Interface) AddAddress(p netip.Prefix) {
	if !slices.Contains(i.Addresses, p) {
		i.Addresses = append(i.Addresses, p)
	}
}

// AddRoute adds a route, unless the same one is known already, from another file. A table that is not said is the main
// one, a kind that is not said unicast.
func (g *Gateway) AddRoute(r *Route) {
	if r.Table == "" {
		r.Table = "main"
	}
	if r.Kind == "" {
		r.Kind = "unicast"
	}
	key := routeKey{r.To, r.Via, r.Dev, r.Kind, r.Table, r.Metric}
	if have := g.index.routes[key]; have != nil {
		if r.Doubts.Certain() {
			have.Doubts = nil
		}
		return
	}
	if g.index.routes == nil {
		g.index.routes = map[routeKey]*Route{}
	}
	g.index.routes[key] = r
	g.Routes = append(g.Routes, r)
}

// routeKey is what two routes that are the same have in common.
type routeKey struct {
	to     netip.Prefix
	via    netip.Addr
	dev    string
	kind   string
	table  string
	metric int
}

// RoutingProtocol is one instance of a dynamic routing protocol: what it is told, not what it learned.
type RoutingProtocol struct {
	Name         string // "ospf", "ospf6", "bgp", "rip", "isis", "eigrp"
	Instance     string // number or name; "" for none
	At           source.Pos
	Networks     []Carried  // networks it is told to carry, or to run in
	Interfaces   []Carried  // interfaces it is told to run on
	Passive      []string   // interfaces on which it only tells their networks; "default" for all
	Active       []string   // interfaces that are taken out of a default of being passive
	Redistribute []Carried  // origins that it takes in: "connected", "static", "kernel", another protocol
	Neighbors    []Neighbor // peers that are named
	Doubts       Doubts     // what of it was not understood
}

// Carried is a network, an interface or an origin that a routing protocol is told, and where.
type Carried struct {
	Network netip.Prefix
	Name    string
	At      source.Pos
}

// Neighbor is a peer of a routing protocol.
type Neighbor struct {
	Addr      netip.Addr // invalid where it is named by an interface
	Interface string
	At        source.Pos
}

// TunnelKind is the kind of an interface, of the names that Linux and its tools have for it: the families of one kind, and
// tunnels of frames and of packets, are one.
func TunnelKind(name string) string {
	switch name {
	case "vti6":
		return "vti"
	case "gretap", "ip6gre", "ip6gretap":
		return "gre"
	case "ip6ip6", "ipip6", "ip6tnl6":
		return "ip6tnl"
	}
	return source.Clean(name)
}

// Keyed sets the keys of a VTI or GRE interface: one for both directions, or one each; a number or in dotted form.
func (i *Interface) Keyed(both, out, in string) {
	parse := func(into *uint32, text string) {
		if a, err := netip.ParseAddr(text); err == nil && a.Is4() {
			b := a.As4()
			*into = binary.BigEndian.Uint32(b[:])
		} else if n, err := strconv.ParseUint(text, 0, 32); err == nil {
			*into = uint32(n)
		}
	}
	parse(&i.Key, both)
	parse(&i.KeyIn, both)
	parse(&i.Key, out)
	parse(&i.KeyIn, in)
}

// Ends sets the outer addresses of an interface that is a tunnel; what is no address, as "any", leaves one open.
func (i *Interface) Ends(local, remote string) {
	i.Local, _ = netip.ParseAddr(local)
	i.Remote, _ = netip.ParseAddr(remote)
}

// Resolve finds the interfaces of routes that name a next hop and no interface: the one that is in the next hop's network, or that the
// most specific other route to the next hop names. The gateway must be complete.
func (g *Gateway) Resolve() {
	type net struct {
		table string
		to    netip.Prefix
	}
	var open []*Route
	by := map[net]string{}
	for _, r := range g.Routes {
		switch {
		case r.Kind != "unicast":
		case r.Dev != "":
			by[net{r.Table, r.To.Masked()}] = r.Dev
		case r.Via.IsValid():
			open = append(open, r)
		}
	}
	if len(open) == 0 {
		return
	}
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			if !i.Down {
				by[net{"main", a.Masked()}] = i.Name
			}
		}
	}
	for _, r := range open {
		for bits := r.Via.BitLen(); bits > 0 && r.Dev == ""; bits-- {
			p := netip.PrefixFrom(r.Via, bits).Masked()
			if r.Dev = by[net{r.Table, p}]; r.Dev == "" {
				r.Dev = by[net{"main", p}]
			}
		}
	}
}

// Inside is the private IPv4 address that a gateway has where its default route leads, or its only address: what it sends from where
// others know it by an address that is none of its own. It is invalid where the files do not tell. The gateway must be complete.
func (g *Gateway) Inside() netip.Addr {
	x := &g.index
	x.insideOnce.Do(func() {
		out := ""
		for _, r := range g.Routes {
			if r.Kind == "unicast" && r.Table == "main" && r.To.Bits() == 0 && r.To.Addr().Is4() {
				if out != "" && out != r.Dev || r.Dev == "" {
					return
				}
				out = r.Dev
			}
		}
		var found []netip.Addr
		for _, i := range g.Interfaces {
			if i.Down || i.Kind == "loopback" || i.Tunnel() || out != "" && i.Name != out {
				continue
			}
			if i.Dynamic { // it has one more, that no file tells
				return
			}
			for _, a := range i.Addresses {
				if a.Addr().Is4() {
					found = append(found, a.Addr())
				}
			}
		}
		if len(found) > 0 && found[0].IsPrivate() && (out != "" || len(found) == 1) {
			x.inside = found[0]
		}
	})
	return x.inside
}

// Has reports whether an address is one of the gateway's, as far as the files tell.
func (g *Gateway) Has(a netip.Addr) bool {
	return slices.ContainsFunc(g.Interfaces, func(i *Interface) bool {
		return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr() == a })
	})
}
