package model

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Extent is how much the files tell of something.
type Extent uint8

// The extents.
const (
	Nothing Extent = iota
	Partly         // what a file configures: another file, or a program, may add to it
	Wholly         // a list of all there is
)

// Told is how much the files of a gateway tell, by their formats: where they tell nothing, or not all, what they do not have may be there
// all the same.
type Told struct {
	IKE       bool // a configuration of an IKE daemon
	Filter4   bool // the packet filter for IPv4, though it may be empty
	Filter6   bool
	Addresses Extent
	Routes    Extent // of the main routing table
	Rules     bool   // the routing rules
	Daemon    bool   // the settings of the IKE daemon as a whole, where they have a file of their own
	Tables    bool   // all routing tables, and not the main one alone
}

// join takes over what another file tells.
func (t *Told) join(u Told) {
	t.IKE, t.Daemon, t.Rules, t.Tables = t.IKE || u.IKE, t.Daemon || u.Daemon, t.Rules || u.Rules, t.Tables || u.Tables
	t.Filter4, t.Filter6 = t.Filter4 || u.Filter4, t.Filter6 || u.Filter6
	t.Addresses, t.Routes = max(t.Addresses, u.Addresses), max(t.Routes, u.Routes)
}

// The things that files tell of a gateway, in words: what doubts about what was not given are of.
const (
	IKEConfiguration = "IKE configuration"
	PacketFilter     = "packet filter"
	AddressList      = "addresses"
	RouteList        = "routes"
	RuleList         = "routing rules"
)

// Lacking are doubts about what was not given of a gateway.
type Lacking struct {
	Filter4, Filter6 Doubts            // the packet filter
	Addresses        Doubts            // interfaces and their addresses
	More             Doubts            // there may be more interfaces and routes than the files configure
	Routes           Doubts            // routes, for packets that none of the known ones is for
	Routes4, Routes6 Doubts            // routes of one family, where those of the other were given
	Tables           map[string]Doubts // routing tables that rules name, and no file has
	Rules            Doubts            // routing rules: there are tables that nothing leads to
}

// NetworkDoubts are the doubts about something that no file tells of the network: an address, an interface, a route.
func (g *Gateway) NetworkDoubts() Doubts {
	l := g.Lacks()
	out := l.Addresses.And(l.Routes).And(l.Routes4).And(l.Routes6)
	if len(out) == 0 {
		out = l.More
	}
	out = out.And(g.Doubts(AboutNetwork))
	for _, i := range g.Interfaces {
		out = out.And(i.Doubts)
	}
	return out
}

// Lacks returns what was not given of the gateway. The gateway must be complete.
func (g *Gateway) Lacks() *Lacking {
	x := &g.index
	x.lacksOnce.Do(func() { x.lacks = g.lacking() })
	return x.lacks
}

func (g *Gateway) lacking() *Lacking {
	l := &Lacking{Tables: map[string]Doubts{}}
	absent := func(of, format string, args ...any) Doubts {
		return Doubts{{Cause: NotGiven, Gateway: g.Name, Of: of, Why: fmt.Sprintf(format, args...)}}
	}
	switch {
	case !g.Told.Filter4 && !g.Told.Filter6:
		l.Filter4 = absent(PacketFilter, "the packet filter of %s was not given", g.Name)
		l.Filter6 = l.Filter4
	case !g.Told.Filter4:
		l.Filter4 = absent(PacketFilter+" for IPv4", "the packet filter of %s for IPv4 was not given", g.Name)
	case !g.Told.Filter6:
		l.Filter6 = absent(PacketFilter+" for IPv6", "the packet filter of %s for IPv6 was not given", g.Name)
	}
	var unknown []string
	if g.Told.Addresses == Partly {
		unknown = g.undescribed()
	}
	switch {
	case g.Told.Addresses == Nothing:
		l.Addresses = absent(AddressList, "the addresses of %s were not given", g.Name)
	case len(unknown) > 0:
		l.Addresses = absent(
			"interfaces",
			"the network configuration of %s is not complete: no file has addresses of %s",
			g.Name,
			strings.Join(unknown, ", "),
		)
	}
	switch {
	case g.Told.Routes == Nothing:
		l.Routes = absent(RouteList, "the routes of %s were not given", g.Name)
	case g.Told.Routes == Partly && len(l.Addresses) > 0:
		l.Routes = l.Addresses
	case g.Told.Routes == Wholly:
		if g.unrouted(netip.Addr.Is4) {
			l.Routes4 = absent(RouteList+" for IPv4", "the routes of %s for IPv4 were not given", g.Name)
		}
		if g.unrouted(netip.Addr.Is6) {
			l.Routes6 = absent(RouteList+" for IPv6", "the routes of %s for IPv6 were not given", g.Name)
		}
	}
	if g.Told.Addresses == Partly || g.Told.Routes == Partly {
		l.More = Doubts{{Cause: Undecided, Gateway: g.Name, Why: "there may be more addresses and routes than the files given configure"}}
	}
	tables := map[string]bool{"local": true, "main": true, "default": true, "220": true, "255": true, "254": true, "253": true, "": true}
	for _, r := range g.Routes {
		if !tables[r.Table] && !g.Told.Rules && len(g.RouteRules) == 0 {
			l.Rules = absent(RuleList, "the routing rules of %s were not given", g.Name)
		}
		tables[r.Table] = true
	}
	for _, r := range g.RouteRules {
		if r.Kind == "lookup" && !tables[r.Table] && !g.Told.Tables {
			l.Tables[r.Table] = absent("routing table "+r.Table, "the routing table %s of %s was not given", r.Table, g.Name)
		}
	}
	return l
}

// unrouted reports whether the gateway has an address of a family that leads somewhere, and no route of that family: a list of routes has
// those of the kernel at least.
func (g *Gateway) unrouted(family func(netip.Addr) bool) bool {
	if slices.ContainsFunc(g.Routes, func(r *Route) bool { return family(r.To.Addr()) }) {
		return false
	}
	leads := func(p netip.Prefix) bool {
		a := p.Addr()
		return family(a) && !a.IsLoopback() && !a.IsLinkLocalUnicast() && p.Bits() < a.BitLen()
	}
	return slices.ContainsFunc(g.Interfaces, func(i *Interface) bool { return !i.Down && slices.ContainsFunc(i.Addresses, leads) })
}

// undescribed are the interfaces that routes and rules of the packet filter name, and of which no file has an address or says that they
// get one while the gateway runs.
func (g *Gateway) undescribed() []string {
	known := map[string]bool{"": true, "lo": true}
	for _, i := range g.Interfaces {
		if len(i.Addresses) > 0 || i.Dynamic || i.Down || i.Tunnel() || i.Kind != "" {
			known[i.Name] = true
		}
	}
	var out []string
	add := func(name string) {
		if !known[name] {
			known[name] = true
			out = append(out, name)
		}
	}
	for _, r := range g.Routes {
		if r.Kind == "unicast" {
			add(r.Dev)
		}
	}
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			for _, name := range r.When.Names() {
				add(name)
			}
		}
	}
	slices.Sort(out)
	return out
}
