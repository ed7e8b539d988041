package walk

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"

	"toril/model"
	"toril/packet"
)

// hop is what the routing decision says about a flow.
type hop struct {
	Flow
	dev     string // "" where the saved files do not tell
	via     netip.Addr
	kind    string // "unicast", "local", "blackhole", "unreachable", "prohibit", "none"
	route   *model.Route
	by      int             // the place of the rule that chose it, among the rules
	restore func(Flow) Flow // of an answer: undoes the destination translation, at the place of source NAT; nil for none
}

// Router decides where packets go: routing rules by priority, in each table the longest prefix (Linux, ip-rule(8)).
type Router struct {
	rules   []*model.RouteRule
	tables  map[string]*table
	known   bool                    // the saved files say anything about interfaces or routes
	doubts  model.Doubts            // about all routes
	open    []doubted               // packets that may go another way
	lacks   model.Doubts            // about packets that no route is for: what was not given may have one
	assumed *model.Doubt            // that the IKE daemon installs routes, where no file says whether it does; nil where one does
	ungiven *model.Doubt            // about the interface that packets leave by, where nothing is known
	gone    func(*model.Route) bool // routes of the IKE daemon's that are not there; nil: all are
}

// doubted are packets about which there are doubts.
type doubted struct {
	packets packet.Set
	why     model.Doubts
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
	r := &Router{tables: map[string]*table{}, known: len(g.Interfaces)+len(g.Routes) > 0, doubts: g.Doubts(model.AboutRoutes)}
	r.notTold(g)
	for name, list := range r.listed(g) {
		r.tables[name] = newTable(list)
	}
	r.rules = ruled(g)
	return r
}

// notTold notes what the files leave open.
func (r *Router) notTold(g *model.Gateway) {
	lacks := g.Lacks()
	r.doubts = r.doubts.And(lacks.Rules)
	if r.lacks = lacks.Routes.And(lacks.Addresses); len(r.lacks) == 0 {
		r.lacks = lacks.More
	}
	if g.Told.Routes == model.Wholly {
		r.lacks = nil
	}
	if len(lacks.Routes4) > 0 {
		r.open = append(r.open, doubted{packet.Only(packet.IPv4), lacks.Routes4})
	}
	if len(lacks.Routes6) > 0 {
		r.open = append(r.open, doubted{packet.Only(packet.IPv6), lacks.Routes6})
	}
	for _, rule := range g.RouteRules {
		if why := lacks.Tables[rule.Table]; len(why) > 0 && rule.Kind == "lookup" {
			r.open = append(r.open, doubted{rule.When, why})
		}
	}
	if !g.Told.Daemon && g.Options.NoRoutes.IsDefault() {
		r.assumed = &model.Doubt{Cause: model.Undecided, Gateway: g.Name,
			Why: "the settings of the IKE daemon as a whole were not given: by default it installs routes"}
	}
	r.ungiven = &model.Doubt{Cause: model.NotGiven, Gateway: g.Name, Why: "neither addresses nor routes were given"}
}

// listed are the routes by table: those of the files, of the gateway's own addresses, and of the networks of its interfaces where no list
// has them.
func (r *Router) listed(g *model.Gateway) map[string][]*model.Route {
	lists := map[string][]*model.Route{}
	add := func(rt *model.Route) { lists[rt.Table] = append(lists[rt.Table], rt) }
	var unread model.Doubts
	for _, rt := range g.Routes {
		if rt.Kind != model.UnreadRoute {
			add(rt)
		}
		if !rt.Doubts.Certain() {
			r.open = append(r.open, doubted{packet.Prefixes(packet.Dst, rt.To), rt.Doubts})
			unread.Add(rt.Doubts...)
		}
	}
	connected := map[int]bool{} // by how many bits addresses have: the list has those of the kernel
	for _, rt := range g.Routes {
		if rt.Origin == "connected" && rt.Table == "main" {
			connected[rt.To.Addr().BitLen()] = true
		}
	}
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			own := netip.PrefixFrom(a.Addr(), a.Addr().BitLen())
			add(&model.Route{At: i.At, To: own, Dev: i.Name, Kind: "local", Table: "local", Origin: "connected"})
			if !connected[a.Addr().BitLen()] && !i.Down && i.Kind != "loopback" && a.Bits() < a.Addr().BitLen() {
				add(&model.Route{At: i.At, To: a.Masked(), Dev: i.Name, Kind: "unicast", Table: "main", Origin: "connected"})
				if len(unread) > 0 { // it may be one of the kernel's, and the list one of all of them
					r.open = append(r.open, doubted{packet.Prefixes(packet.Dst, a.Masked()), unread})
				}
			}
		}
	}
	return lists
}

// ruled are the rules that choose tables, in their order, with those that are always there.
func ruled(g *model.Gateway) []*model.RouteRule {
	rules := slices.Clone(g.RouteRules)
	lookup := func(priority int, table string) *model.RouteRule {
		return &model.RouteRule{Priority: priority, When: packet.All(), Table: table, Kind: "lookup"}
	}
	if len(rules) == 0 {
		rules = append(rules, lookup(0, "local"), lookup(32766, "main"), lookup(32767, "default"))
	}
	if !slices.ContainsFunc(rules, func(x *model.RouteRule) bool { return x.Table == daemonTable }) {
		rules = append(rules, lookup(daemonPriority, daemonTable))
	}
	if !slices.ContainsFunc(rules, func(x *model.RouteRule) bool { return x.Table == "local" }) { // the list leaves it out
		rules = append(rules, lookup(0, "local"))
	}
	slices.SortStableFunc(rules, func(a, b *model.RouteRule) int { return cmp.Compare(a.Priority, b.Priority) })
	return rules
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

// Decide splits a flow by where its packets go, if routing rules that are not certain choose nothing. Where they may choose something else,
// the packets say why.
func (r *Router) Decide(f Flow) []hop {
	f = f.doubt(r.doubts...)
	if !r.known {
		return []hop{{Flow: f.unknown(packet.Out, r.ungiven), kind: "unicast"}}
	}
	var out []hop
	for _, part := range r.doubtful(f) {
		out = append(out, r.decide(part)...)
	}
	for i, rule := range r.rules {
		if !rule.Doubts.Certain() && f.Now.Overlaps(rule.When) {
			out = r.otherwise(out, i, f)
		}
	}
	if r.assumed != nil {
		out = r.withoutDaemon(out)
	}
	return out
}

// withoutDaemon notes on packets which take a route of the IKE daemon's, that no file says it installs, that they would go another way
// without it.
func (r *Router) withoutDaemon(all []hop) []hop {
	var out []hop
	for _, h := range all {
		if h.route == nil || h.route.Origin != daemonOrigin {
			out = append(out, h)
			continue
		}
		q := r.without(func(*model.Route) bool { return true })
		for _, other := range q.decide(Flow{Now: h.Now}) {
			part := h
			part.Flow = h.with(other.Now)
			if other.dev != h.dev || other.kind != h.kind {
				part.Flow = part.doubt(r.assumed)
			}
			out = append(out, part)
		}
	}
	return out
}

// doubtful splits a flow by whether a route that was not wholly understood, or not given, may be for its packets.
func (r *Router) doubtful(f Flow) []Flow {
	flows := []Flow{f}
	for _, d := range r.open {
		var next []Flow
		for _, one := range flows {
			hit := one.Now.And(d.packets)
			if hit.Empty() {
				next = append(next, one)
				continue
			}
			if rest := one.Now.Minus(d.packets); !rest.Empty() {
				next = append(next, one.with(rest))
			}
			next = append(next, one.with(hit).doubt(d.why...))
		}
		flows = next
	}
	return flows
}

// decide is Decide by the rules that are certain.
func (r *Router) decide(f Flow) []hop {
	var out []hop
	left := f.Now
	for i, rule := range r.rules {
		if !rule.Doubts.Certain() {
			continue
		}
		hit := left.And(rule.When)
		if hit.Empty() {
			continue
		}
		hops, done := r.chosen(i, f.with(hit))
		for k := range hops {
			if rt := hops[k].route; rt != nil && rt.To.Bits() == 0 && rt.Origin != daemonOrigin { // there may be one that is more specific
				hops[k].Flow = hops[k].doubt(r.lacks...)
			}
		}
		if out = append(out, hops...); len(out) > maxFlows {
			panic(packet.TooComplex())
		}
		left = left.Minus(done)
	}
	if !left.Empty() {
		out = append(out, hop{Flow: f.with(left).doubt(r.lacks...), kind: "none", by: len(r.rules)})
	}
	return out
}

// chosen is where packets go that the rule of a place is for, and which of them go anywhere.
func (r *Router) chosen(by int, f Flow) (out []hop, done packet.Set) {
	rule := r.rules[by]
	if rule.Kind != "lookup" {
		return []hop{{Flow: f, kind: rule.Kind, by: by}}, f.Now
	}
	t := r.tables[rule.Table]
	if t == nil {
		return nil, packet.None()
	}
	hit := f.Now
	var sets []packet.Set
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
		out = append(out, hop{Flow: f.with(part), dev: rt.Dev, via: rt.Via, kind: rt.Kind, route: rt, by: by})
		sets = append(sets, part)
	}
	return out, packet.Union(sets...)
}

// otherwise notes on packets that they may go another way, which a rule that is not certain would choose for them, by its place.
func (r *Router) otherwise(all []hop, by int, f Flow) []hop {
	rule := r.rules[by]
	others, _ := r.chosen(by, f.with(f.Now.And(rule.When)))
	for _, other := range others {
		var next []hop
		for _, h := range all {
			hit := h.Now.And(other.Now)
			if hit.Empty() || h.by < by || h.dev == other.dev && h.via == other.via && h.kind == other.kind {
				next = append(next, h)
				continue
			}
			if rest := h.Now.Minus(other.Now); !rest.Empty() {
				apart := h
				apart.Flow = h.with(rest)
				next = append(next, apart)
			}
			h.Flow = h.with(hit).doubt(rule.Doubts...)
			next = append(next, h)
		}
		all = next
	}
	return all
}

// routes splits a set by the route that its packets take.
func (r *Router) routes(s packet.Set) []Routed {
	var out []Routed
	for _, h := range r.Decide(Start(s)) {
		i := slices.IndexFunc(out, func(x Routed) bool { return x.Route == h.route })
		if i < 0 {
			out = append(out, Routed{h.route, h.Now, h.Doubts})
			continue
		}
		out[i].Packets = out[i].Packets.Or(h.Now)
		out[i].Doubts.Add(h.Doubts...)
	}
	return out
}
