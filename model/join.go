package model

import "slices"

// Join adds what was read of one file, or of one and those that it includes, as a gateway by itself. What several files say parts of
// comes
// together: interfaces by their names, routes, instances of routing protocols, sets and definitions; of what can hold only one value, the
// later one holds. It returns the sets that were known already, which are not added.
func (g *Gateway) Join(part *Gateway) (again []*NamedSet) {
	g.Files = append(g.Files, part.Files...)
	g.LeftOut = append(g.LeftOut, part.LeftOut...)
	g.Refused = append(g.Refused, part.Refused...)
	g.Connections = append(g.Connections, part.Connections...)
	g.Unloaded = append(g.Unloaded, part.Unloaded...)
	g.Keys = append(g.Keys, part.Keys...)
	g.Certs = append(g.Certs, part.Certs...)
	g.Revocations = append(g.Revocations, part.Revocations...)
	g.Authorized = append(g.Authorized, part.Authorized...)
	g.Fetches = g.Fetches || part.Fetches
	g.PublicKeys = append(g.PublicKeys, part.PublicKeys...)
	g.PrivateKeys = append(g.PrivateKeys, part.PrivateKeys...)
	g.Chains = append(g.Chains, part.Chains...)
	g.RouteRules = append(g.RouteRules, part.RouteRules...)
	g.open = append(g.open, part.open...)
	g.Problems = append(g.Problems, part.Problems...)
	g.Observed.join(&part.Observed)
	g.Told.join(part.Told)
	g.Options.join(part.Options)
	g.Order.AccessFirst = g.Order.AccessFirst || part.Order.AccessFirst
	g.Order.TunnelFirst = g.Order.TunnelFirst || part.Order.TunnelFirst
	for _, i := range part.Interfaces {
		g.InterfaceOf(i.Name, i.At).join(i)
	}
	for _, r := range part.Routes {
		g.AddRoute(r)
	}
	for _, p := range part.Protocols {
		g.joinProtocol(p)
	}
	for _, s := range part.Sets {
		if !g.AddSet(s) {
			again = append(again, s)
		}
	}
	for _, d := range part.Definitions {
		if part.index.defined[[2]string{d.Kind, d.Name}] != d { // it is defined in one file, once
			g.Definitions = append(g.Definitions, d)
			continue
		}
		to := g.Defined(d.Kind, d.Name)
		to.Used, to.Again = append(to.Used, d.Used...), append(to.Again, d.Again...)
		if to.Missing && !d.Missing {
			to.At, to.Missing = d.At, false
		}
	}
	return again
}

// join takes over what another says.
func (o *Options) join(p Options) {
	take(&o.InitiatorDecides, p.InitiatorDecides)
	take(&o.NoRoutes, p.NoRoutes)
	take(&o.ReplayWindow, p.ReplayWindow)
	take(&o.AggressiveKeys, p.AggressiveKeys)
	take(&o.PrivateAlgorithms, p.PrivateAlgorithms)
	take(&o.ShowsVendor, p.ShowsVendor)
	take(&o.NoReuse, p.NoReuse)
}

func take[T any](to *Setting[T], from Setting[T]) {
	if !from.IsDefault() {
		*to = from
	}
}

// join takes over what another file says of an interface.
func (i *Interface) join(p *Interface) {
	for _, a := range p.Addresses {
		i.AddAddress(a)
	}
	i.Down, i.Dynamic = i.Down || p.Down, i.Dynamic || p.Dynamic
	i.Doubts.Add(p.Doubts...)
	take(&i.MTU, p.MTU)
	said(&i.Kind, p.Kind)
	said(&i.IfID, p.IfID)
	said(&i.Key, p.Key)
	said(&i.KeyIn, p.KeyIn)
	said(&i.Local, p.Local)
	said(&i.Remote, p.Remote)
	said(&i.Parent, p.Parent)
}

func said[T comparable](to *T, from T) {
	var nothing T
	if from != nothing {
		*to = from
	}
}

// joinProtocol adds an instance of a routing protocol, or what a file says of one that is known: one that a file does not name is any.
func (g *Gateway) joinProtocol(p *RoutingProtocol) {
	i := slices.IndexFunc(g.Protocols, func(q *RoutingProtocol) bool {
		return q.Name == p.Name && (p.Instance == "" || q.Instance == p.Instance || q.Instance == "")
	})
	if i < 0 {
		g.Protocols = append(g.Protocols, p)
		return
	}
	q := g.Protocols[i]
	q.Networks, q.Interfaces = append(q.Networks, p.Networks...), append(q.Interfaces, p.Interfaces...)
	q.Passive, q.Active = append(q.Passive, p.Passive...), append(q.Active, p.Active...)
	q.Redistribute, q.Neighbors = append(q.Redistribute, p.Redistribute...), append(q.Neighbors, p.Neighbors...)
	q.Doubts.Add(p.Doubts...)
}
