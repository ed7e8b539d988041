package gateway

import (
	"net/netip"
	"slices"

	"toril/source"
)

// index finds what several files may say parts of.
type index struct {
	interfaces map[string]*Interface
	routes     map[Route]bool
	sets       map[string]*NamedSet
	defined    map[[2]string]*Definition
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
	key := *r
	key.At, key.Origin, key.Src = source.Pos{}, "", netip.Addr{}
	if g.index.routes[key] {
		return
	}
	if g.index.routes == nil {
		g.index.routes = map[Route]bool{}
	}
	g.index.routes[key] = true
	g.Routes = append(g.Routes, r)
}

// RoutingProtocol is one instance of a dynamic routing protocol: what it is told, not what it learned.
type RoutingProtocol struct {
	Name         string // "ospf", "ospf6", "bgp", "rip", "isis", "eigrp"
	Instance     string // number or name; "" for none
	At           source.Pos
	Networks     []Carried  // networks it is told to carry, or to run in
	Interfaces   []Carried  // interfaces it is told to run on
	Passive      []string   // interfaces on which it only tells their networks; "default" for all
	Redistribute []Carried  // origins that it takes in: "connected", "static", "kernel", another protocol
	Neighbors    []Neighbor // peers that are named
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
