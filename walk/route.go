package walk

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"toril/model"
	"toril/packet"
)

// hop is what the routing decision says about a flow.
type hop struct {
	Flow
	dev   string // "" where the saved files do not tell
	via   netip.Addr
	kind  string // "unicast", "local", "blackhole", "unreachable", "prohibit", "none"
	route *model.Route
}

// Router decides where packets go: routing rules by priority, in each table the longest prefix (Linux, ip-rule(8)).
type Router struct {
	rules  []*model.RouteRule
	tables map[string]*table
	known  bool                    // the saved files say anything about interfaces or routes
	gone   func(*model.Route) bool // routes of the IKE daemon's that are not there; nil: all are
}

// table is a routing table: the longest prefix first, then the least metric.
type table struct {
	routes []*model.Route
	to     []packet.Set // the packets that each is for
	index  *packet.Index
}

// newTable puts routes in order.
func newTable(routes []*model.Route) *table {
	slices.SortStableFunc(routes, func(a, b *model.Route) int {
		return cmp.Or(cmp.Compare(b.To.Bits(), a.To.Bits()), cmp.Compare(a.Metric, b.Metric))
	})
	t := &table{routes: routes, to: make([]packet.Set, len(routes))}
	for i, rt := range routes {
		t.to[i] = packet.Prefixes(packet.Dst, rt.To)
	}
	t.index = packet.NewIndex(t.to)
	return t
}

// daemonTable is the table into which strongSwan puts the routes of its tunnels, and the priority of its rule.
const daemonTable, daemonPriority = "220", 220

// daemonOrigin is who such a route is from.
const daemonOrigin = "the IKE daemon"

// NewRouter prepares the routes of a gateway. Networks of interfaces are added where no saved table has them.
func NewRouter(g *model.Gateway) *Router {
	r := &Router{tables: map[string]*table{}, known: len(g.Interfaces)+len(g.Routes) > 0}
	lists := map[string][]*model.Route{}
	add := func(rt *model.Route) { lists[rt.Table] = append(lists[rt.Table], rt) }
	for _, rt := range g.Routes {
		add(rt)
	}
	connected := slices.ContainsFunc(g.Routes, func(rt *model.Route) bool { return rt.Origin == "connected" && rt.Table == "main" })
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			add(
				&model.Route{
					At:     i.At,
					To:     netip.PrefixFrom(a.Addr(), a.Addr().BitLen()),
					Dev:    i.Name,
					Kind:   "local",
					Table:  "local",
					Origin: "connected",
				},
			)
			if !connected && !i.Down && i.Kind != "loopback" && a.Bits() < a.Addr().BitLen() {
				add(&model.Route{At: i.At, To: a.Masked(), Dev: i.Name, Kind: "unicast", Table: "main", Origin: "connected"})
			}
		}
	}
	for name, list := range lists {
		r.tables[name] = newTable(list)
	}
	r.rules = slices.Clone(g.RouteRules)
	if len(r.rules) == 0 {
		for _, d := range []struct {
			priority int
			table    string
		}{{0, "local"}, {32766, "main"}, {32767, "default"}} {
			r.rules = append(r.rules, &model.RouteRule{Priority: d.priority, When: packet.All(), Table: d.table, Kind: "lookup"})
		}
	}
	if !slices.ContainsFunc(r.rules, func(x *model.RouteRule) bool { return x.Table == daemonTable }) {
		r.rules = append(r.rules, &model.RouteRule{Priority: daemonPriority, When: packet.All(), Table: daemonTable, Kind: "lookup"})
	}
	if !slices.ContainsFunc(
		r.rules,
		func(x *model.RouteRule) bool { return x.Table == "local" },
	) { // a list that leaves out what is always there
		r.rules = append(r.rules, &model.RouteRule{Priority: 0, When: packet.All(), Table: "local", Kind: "lookup"})
	}
	slices.SortStableFunc(r.rules, func(a, b *model.RouteRule) int { return cmp.Compare(a.Priority, b.Priority) })
	return r
}

// install adds routes of the IKE daemon's.
func (r *Router) install(list []*model.Route) {
	if len(list) == 0 {
		return
	}
	if have := r.tables[daemonTable]; have != nil {
		list = slices.Concat(list, have.routes)
	}
	r.tables[daemonTable] = newTable(list)
}

// without returns the router that lacks some of the IKE daemon's routes.
func (r *Router) without(gone func(*model.Route) bool) *Router {
	q := *r
	q.tables, q.gone = maps.Clone(r.tables), gone
	return &q
}

// Decide splits a flow by where its packets go.
func (r *Router) Decide(f Flow) []hop {
	if !r.known {
		return []hop{{Flow: f, kind: "unicast"}}
	}
	var out []hop
	left := f.Now
	for _, rule := range r.rules {
		hit := left.And(rule.When)
		if hit.Empty() {
			continue
		}
		flow := f
		if rule.Unsure {
			flow = flow.doubt(fmt.Sprintf("the routing rule of priority %d has a condition outside the model", rule.Priority))
		}
		if rule.Kind != "lookup" {
			out = append(out, hop{Flow: flow.with(hit), kind: rule.Kind})
			if !rule.Unsure {
				left = left.Minus(hit)
			}
			continue
		}
		t := r.tables[rule.Table]
		if t == nil {
			continue
		}
		for _, i := range t.index.Meeting(hit) {
			rt := t.routes[i]
			if rule.Table == daemonTable && r.gone != nil && r.gone(rt) {
				continue
			}
			part := hit.And(t.to[i])
			if part.Empty() {
				continue
			}
			hit = hit.Minus(part)
			if rt.Kind == "throw" {
				continue
			}
			out = append(out, hop{Flow: flow.with(part), dev: rt.Dev, via: rt.Via, kind: rt.Kind, route: rt})
			if len(out) > maxFlows {
				panic(packet.TooComplex())
			}
			if !rule.Unsure {
				left = left.Minus(part)
			}
		}
	}
	if !left.Empty() {
		out = append(out, hop{Flow: f.with(left), kind: "none"})
	}
	return out
}

// routes splits a set by the route that its packets take.
func (r *Router) routes(s packet.Set) []Routed {
	var out []Routed
	for _, h := range r.Decide(Start(s)) {
		i := slices.IndexFunc(out, func(x Routed) bool { return x.Route == h.route })
		if i < 0 {
			out = append(out, Routed{h.route, h.Now})
			continue
		}
		out[i].Packets = out[i].Packets.Or(h.Now)
	}
	return out
}
