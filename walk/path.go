package walk

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"toril/ike"
	"toril/model"
	"toril/packet"
)

// Fate is what becomes of packets.
type Fate string

// The fates.
const (
	Encrypted Fate = "encrypted"
	Clear     Fate = "in clear"  // they leave the gateway unprotected
	Delivered Fate = "delivered" // to the gateway itself
	Dropped   Fate = "dropped"
	Unknown   Fate = "not known" // a program decides, or a statement that was not read
)

// Outcome is what became of a part of the packets that a walk began with.
type Outcome struct {
	Flow
	Fate   Fate
	Where  string      // the stage at which it was decided
	Rule   *model.Rule // that decided; nil where it was something else
	Policy *Policy     // Encrypted: the one that did; in the clear: the one that lets them pass, where one does
	Out    string      // the interface that they leave by; "" where it is not known
	Via    netip.Addr  // the next gateway; invalid where there is none
	Outer  []Outcome   // of encrypted packets: what becomes of the ESP packets
	Wrap   *Wrap       // of packets that an interface wrapped before they were encrypted, or left
}

// Path is the way of packets through a Linux gateway: connection tracking, prerouting, the routing decision, the IPsec
// policy, forward, postrouting with the policy asked again after a translation, encapsulation, output and postrouting of
// the ESP packet (as measured on a kernel; RFC 4301 section 5).
type Path struct {
	Gateway  *model.Gateway
	Policies []*Policy // in the order in which the kernel asks them
	filter   *Filter
	router   *Router
	devices  map[string]*model.Interface
	remotes  spans
	own      *Router                       // the gateway's own routes, without those of the IKE daemon
	routes   map[*model.Route]*model.Child // those that the daemon installs, and for which child
	all      *asking                       // the policies
	byIfID   map[uint32]*asking            // and by the number of the xfrm interface that they are for
	of       map[policyKey]*Policy
	owners   map[netip.Addr]string // the interfaces that have addresses
	down     *model.Child          // that has no SA, where the path was made for all of them up
	logging  func() *logging
	mapped   []mapping    // by rules that move networks onto others
	doubts   model.Doubts // about the policies as a whole: any packets may meet another
	untold   *model.Doubt // about the interface that a peer's packets come and go by, where it is not told
}

// policyKey is what a policy is asked for by.
type policyKey struct {
	child     *model.Child
	own, peer netip.Addr
}

// Options say in what state a gateway is walked through.
type Options struct {
	Down func(*model.Child) bool // whether a child has no SA; nil: all are up
}

// Ends are the addresses of both ends of a tunnel, as one of them sees it; invalid where they are not known. InUDP says that its ESP
// packets go in UDP (RFC 3948).
type Ends struct {
	Own, Peer netip.Addr
	InUDP     bool
}

// NewPath prepares a gateway. ends gives, for each of its connections, the addresses of every tunnel that it is an end of.
func NewPath(g *model.Gateway, ends func(*model.Connection) []Ends, opts Options) *Path {
	p := &Path{Gateway: g, router: NewRouter(g), devices: map[string]*model.Interface{}, logging: loggingOf(g)}
	p.doubts = g.Doubts(model.AboutIKE)
	p.untold = &model.Doubt{Cause: model.NotGiven, Gateway: g.Name, Why: "no file tells by which interface the peer is reached"}
	p.owners = map[netip.Addr]string{}
	for _, i := range g.Interfaces {
		p.devices[i.Name] = i
		for _, a := range i.Addresses {
			if _, taken := p.owners[a.Addr()]; !taken && i.Kind != "loopback" && i.Kind != "dummy" {
				p.owners[a.Addr()] = i.Name
			}
		}
	}
	for _, c := range g.Connections {
		p.doubts.Add(c.Doubts...) // it may be about another child
		for _, k := range c.Children {
			if k.Local.IsDefault() || k.Remote.IsDefault() { // which packets it is for may be what was not understood
				p.doubts.Add(k.Doubts...)
			}
		}
		for _, e := range ends(c) {
			for _, k := range c.Children {
				p.policy(c, k, e, opts)
			}
		}
	}
	slices.SortStableFunc(p.Policies, func(a, b *Policy) int {
		return cmp.Or(cmp.Compare(precedence(a), precedence(b)), cmp.Compare(b.narrow, a.narrow))
	})
	p.order()
	p.filter = NewFilter(p.opened(g), SelfAddresses(g))
	p.filter.of(g)
	p.own = p.router.without(nil) // a copy
	p.mapped = p.mappings()
	for _, pol := range p.Policies {
		pol.Wraps = p.wrappers(pol)
	}
	p.remotes = newSpans(p.Policies, func(pol *Policy) ike.Selectors {
		if into := p.Into(pol); len(into) > 0 {
			return p.routedInto(into)
		}
		return pol.Child.RemoteAt(pol.Peer)
	})
	p.routes = map[*model.Route]*model.Child{}
	var installed []*model.Route
	for _, pol := range p.Policies {
		for _, rt := range p.routesOf(pol) {
			p.routes[rt] = pol.Child
			installed = append(installed, rt)
		}
	}
	p.router.install(installed)
	p.router.doubts = p.router.doubts.And(p.doubts) // the daemon may install other routes
	return p
}

// IKEDoubts are what was not understood of the gateway's IKE configuration, of whatever connection.
func (p *Path) IKEDoubts() model.Doubts { return p.doubts }

// Without returns the path while a child has no SA.
func (p *Path) Without(k *model.Child) *Path {
	q := *p
	q.down = k
	if !k.Start.Value.Traps() {
		q.router = p.router.without(func(rt *model.Route) bool { return p.routes[rt] == k })
	}
	return &q
}

// Plain makes the packets of a set those of a new connection that nobody touched yet.
func Plain(s packet.Set) packet.Set { return s.And(plain) }

var (
	plain = packet.Where(packet.State, packet.OneOf(packet.New)).
		With(packet.Direction, packet.OneOf(packet.Original)).
		With(packet.Translated, packet.OneOf(0)).
		With(packet.Mark, packet.OneOf(0)).
		With(packet.ConnMark, packet.OneOf(0))
	bare  = packet.Where(packet.PeerIn, packet.OneOf(0)).With(packet.PeerOut, packet.OneOf(0))
	fresh = plain.And(bare)
	made  = packet.Where(packet.In, packet.Name("")) // by the gateway itself
	own   = fresh.And(made)
)

// Fresh makes the packets of a set those of a new connection, in the clear, that come in by an interface; "" where any may be
// it.
func Fresh(s packet.Set, in string) Flow {
	s = s.And(fresh)
	if in != "" {
		s = s.With(packet.In, packet.Name(in))
	}
	return Start(s)
}

// Forward follows packets that come in by an interface.
func (p *Path) Forward(f Flow) []Outcome {
	var out []Outcome
	for _, v := range p.filter.Through(model.Prerouting, f) {
		if o, done := stopped(v, "prerouting"); done {
			out = append(out, o)
			continue
		}
		for _, h := range p.router.Decide(v.Flow) {
			out = joined(out, p.routed(h))
		}
	}
	return out
}

// Receive follows packets that come in and are for the gateway itself whatever the routes say, as those to a multicast address.
func (p *Path) Receive(f Flow) []Outcome {
	var out []Outcome
	for _, v := range p.filter.Through(model.Prerouting, f) {
		if o, done := stopped(v, "prerouting"); done {
			out = append(out, o)
			continue
		}
		out = joined(out, p.input(hop{Flow: v.Flow}))
	}
	return out
}

// asksAccess sends a flow through the access rules of a hook: as the packets are now, or, where the gateway asks before it translates, as
// they came in. What a translation changed is changed again afterwards.
func (p *Path) asksAccess(hook model.Hook, f Flow) []Verdict {
	if !p.Gateway.Order.AccessFirst || !f.Changed() {
		return p.filter.Through(hook, f)
	}
	var out []Verdict
	for _, part := range f.Now.Parts() {
		whole := f.with(part)
		asked := whole.with(whole.Was())
		asked.before = nil
		met := len(asked.Steps)
		first := slices.IndexFunc(asked.Steps, func(s Step) bool { return s.Stage == model.Prerouting.String() })
		for _, v := range p.filter.Through(hook, asked) {
			if first >= 0 { // told in the order in which the gateway works
				v.Steps = slices.Concat(v.Steps[:first], v.Steps[met:], v.Steps[first:met])
			}
			v.Flow = v.again(whole)
			out = append(out, v)
		}
	}
	return out
}

// stopped turns a verdict that ends the way into an outcome.
func stopped(v Verdict, where string) (Outcome, bool) {
	switch v.Verb {
	case model.Drop, model.Reject:
		return Outcome{Flow: v.Flow, Fate: Dropped, Where: where, Rule: v.Rule}, true
	case model.Queue, model.UnknownAction:
		return Outcome{Flow: v.Flow, Fate: Unknown, Where: where, Rule: v.Rule}, true
	}
	return Outcome{}, false
}

// routed goes on behind the routing decision of a packet that came in.
func (p *Path) routed(h hop) []Outcome {
	switch h.kind {
	case "local":
		return p.input(h)
	case "blackhole", "unreachable", "prohibit", "none":
		what := h.kind + " route"
		if h.kind == "none" {
			what = "no route"
		}
		return []Outcome{{Flow: h.Flow.met(Step{Stage: "route", What: what, Route: h.route}), Fate: Dropped, Where: "route"}}
	}
	flow := p.step(h)
	var out []Outcome
	guarded, rest := p.unprotected(flow)
	out = append(out, guarded...)
	if rest.Now.Empty() {
		return out
	}
	for _, s := range p.split(rest, h.dev) {
		switch {
		case s.pol != nil && s.pol.drops():
			out = append(
				out,
				Outcome{
					Flow:   s.Flow.met(Step{Stage: "policy", What: "policy " + s.pol.Name + " drops"}),
					Fate:   Dropped,
					Where:  "policy",
					Policy: s.pol,
				},
			)
			continue
		case s.pol != nil && !s.pol.passes() && !s.pol.Up && !p.asksLater(h.dev):
			out = append(
				out,
				Outcome{
					Flow:   s.Flow.met(Step{Stage: "policy", What: "policy " + s.pol.Name + " blocks it: no SA is up"}),
					Fate:   Dropped,
					Where:  "policy",
					Policy: s.pol,
				},
			)
			continue
		}
		for _, v := range p.asksAccess(model.Forward, s.Flow) {
			if o, done := stopped(v, "forward"); done {
				out = append(out, o)
				continue
			}
			out = joined(out, p.leave(v.Flow, s.pol, h))
		}
	}
	return out
}

// step notes the route, and the interface that the packets will leave by.
func (p *Path) step(h hop) Flow {
	f := h.Flow
	what := "out via an interface that is not in the files"
	if h.dev != "" {
		what = "out via " + h.dev
		f.Now = f.Now.Replace(packet.Out, packet.Name(h.dev))
		if by := p.devices[h.dev]; by != nil {
			f = f.doubt(by.Doubts...)
		}
	} else {
		f.Now = f.Now.Replace(packet.Out, packet.Name(unnamed))
		f = f.unknown(packet.Out, p.untold)
	}
	if h.via.IsValid() {
		what += ", next hop " + h.via.String()
	}
	if h.route != nil && h.route.Origin == daemonOrigin {
		what += ", a route of the IKE daemon's"
	}
	return f.met(Step{Stage: "route", What: what, Route: h.route})
}

// input goes to the gateway itself.
func (p *Path) input(h hop) []Outcome {
	var out []Outcome
	f := h.Flow.met(Step{Stage: "route", What: "to the gateway itself"})
	guarded, rest := p.unprotected(f)
	out = append(out, guarded...)
	if rest.Now.Empty() {
		return out
	}
	for _, v := range p.asksAccess(model.Input, rest) {
		if o, done := stopped(v, "input"); done {
			out = append(out, o)
			continue
		}
		out = append(out, Outcome{Flow: v.Flow, Fate: Delivered, Where: "input"})
	}
	return out
}

// unprotected takes out the packets that should have come out of a tunnel and did not: the inbound and forward policies
// demand protection (RFC 4301 section 5.2). Packets to the gateway itself are seen by the input chain first; the fate is
// the same.
func (p *Path) unprotected(f Flow) (dropped []Outcome, rest Flow) {
	left, may := f.Now, packet.None()
	for _, pol := range p.askedIn(f.Now) {
		if left.Empty() {
			break
		}
		hit := left.And(pol.back)
		if mark, mask, ok := pol.Child.MarkedIn(); ok {
			hit = hit.With(packet.Mark, markedBy(mark, mask))
		}
		if hit.Empty() {
			continue
		}
		left = left.Minus(hit)
		right, what := packet.None(), " drops it"
		switch {
		case pol.passes():
			right = packet.All()
		case pol.drops():
		default:
			right, what = Peered(packet.PeerIn, pol.Peer), " requires it to come through the tunnel"
		}
		may = may.Or(hit.And(right))
		if bad := hit.Minus(right); !bad.Empty() {
			dropped = append(
				dropped,
				Outcome{
					Flow:   f.with(bad).met(Step{Stage: "policy", What: "policy " + pol.Name + what}),
					Fate:   Dropped,
					Where:  "policy",
					Policy: pol,
				},
			)
		}
	}
	if may.Empty() {
		return dropped, f.with(left)
	}
	return dropped, f.with(left.Or(may))
}

// share is a part of a flow with the policy that it meets; nil for none.
type share struct {
	Flow
	pol *Policy
}

// asksLater reports whether the policies of an interface are asked behind the last chain, which therefore does not see what
// they say (seen with Linux 6.1).
func (p *Path) asksLater(dev string) bool {
	by := p.devices[dev]
	return by != nil && (by.Kind == "vti" || by.Kind == "xfrm")
}

// split asks the policies about a flow that leaves by an interface, and notes on its packets what they say.
func (p *Path) split(f Flow, dev string) []share {
	var out []share
	by, later := p.devices[dev], p.asksLater(dev)
	left := f.Now
	for _, pol := range p.askedOut(f.Now, by) {
		if left.Empty() {
			break
		}
		hit := left.And(pol.offered(by))
		if hit.Empty() {
			continue
		}
		left = left.Minus(hit)
		peer := packet.OneOf(0)
		if pol.Protects() && !later {
			peer = pol.peer
		}
		out = append(out, share{f.with(hit.Replace(packet.PeerOut, peer)).doubt(p.doubts...).doubt(pol.doubts...), pol})
	}
	if !left.Empty() {
		out = append(out, share{f.with(left.Replace(packet.PeerOut, packet.OneOf(0))).doubt(p.doubts...), nil})
	}
	return out
}

// leave sends a flow through the base chains of postrouting. Where one translates, the policy is asked again.
func (p *Path) leave(f Flow, pol *Policy, h hop) []Outcome {
	type going struct {
		Verdict
		pol *Policy
	}
	first := p.Gateway.Order.TunnelFirst
	if h.restore != nil && first {
		f, h.restore = h.restore(f), nil
	}
	if first && pol != nil && !pol.passes() {
		return p.end(f, pol, h)
	}
	now := []going{{Verdict{Flow: f, Verb: model.Accept}, pol}}
	restore := func() { // behind which the policies are asked once more (seen with Linux 6.1)
		var next []going
		for _, g := range now {
			for _, s := range p.split(h.restore(g.Flow), h.dev) {
				if s.pol != g.pol {
					s.Flow = s.met(Step{Stage: "policy", What: policyWords(s.pol)})
				}
				next = append(next, going{Verdict{Flow: s.Flow, Verb: g.Verb, Rule: g.Rule}, s.pol})
			}
		}
		now, h.restore = next, nil
	}
	var out []Outcome
	for _, c := range p.filter.Bases(model.Postrouting) {
		if h.restore != nil && c.Priority >= placeOfSourceNAT {
			restore()
		}
		var next []going
		for _, g := range now {
			for _, v := range p.filter.one(c, g.Verdict) {
				if o, done := stopped(v, "postrouting"); done {
					out = append(out, o)
					continue
				}
				if !v.Verb.Translates() || g.Verb.Translates() || first {
					next = append(next, going{v, g.pol})
					continue
				}
				for _, s := range p.split(v.Flow, h.dev) {
					if s.pol != g.pol {
						s.Flow = s.Flow.met(Step{Stage: "policy", What: policyWords(s.pol)})
					}
					next = append(next, going{Verdict{Flow: s.Flow, Verb: v.Verb, Rule: v.Rule}, s.pol})
				}
			}
		}
		now = next
		if len(now) > maxFlows {
			panic(packet.TooComplex())
		}
	}
	if h.restore != nil {
		restore()
	}
	for _, g := range now {
		out = joined(out, p.end(g.Flow, g.pol, h))
	}
	return out
}

// placeOfSourceNAT is the priority at which connection tracking translates in the postrouting hook (NF_IP_PRI_NAT_SRC).
const placeOfSourceNAT = 100

func policyWords(pol *Policy) string {
	if pol == nil {
		return "policy looked up again after NAT: no match"
	}
	return "policy looked up again after NAT: " + pol.Name + " matches"
}

// end is behind the last chain: the packets are encapsulated, or leave as they are.
func (p *Path) end(f Flow, pol *Policy, h hop) []Outcome {
	by := p.devices[h.dev]
	dropped := func(why string) []Outcome {
		return []Outcome{{Flow: f.met(Step{Stage: "policy", What: why}), Fate: Dropped, Where: "encapsulation", Policy: pol, Out: h.dev}}
	}
	into := by != nil && (by.Kind == "xfrm" || by.Kind == "vti")
	switch {
	case pol != nil && pol.drops():
		return dropped("policy " + pol.Name + " drops")
	case pol != nil && !pol.passes() && !pol.Up:
		return dropped("policy " + pol.Name + " blocks it: no SA is up")
	case pol != nil && !pol.passes() && into && by.Kind == "vti" && by.Remote.IsValid() && !by.Remote.IsUnspecified() &&
		pol.Peer.IsValid() && by.Remote != pol.Peer:
		return dropped(fmt.Sprintf("%s is set up to %s, and policy %s is to %s", by.Name, by.Remote, pol.Name, pol.Peer))
	case pol != nil && !pol.passes() && into:
		return p.sealedBehind(f, pol, h)
	case pol != nil && !pol.passes():
		return []Outcome{p.sealed(f, pol, h)}
	case into: // no policy of the interface's own: the kernel drops it
		return dropped("no policy matches it on " + by.Name)
	}
	if by != nil {
		if _, wraps := by.Wraps(); wraps {
			return p.wrapped(f, by, h)
		}
	}
	return []Outcome{{Flow: f, Fate: Clear, Where: "leaves", Out: h.dev, Via: h.via, Policy: pol}}
}

// sealed is the outcome of packets that a policy encrypts.
func (p *Path) sealed(f Flow, pol *Policy, h hop) Outcome {
	o := Outcome{
		Flow:   f.met(Step{Stage: "encrypt", What: "by " + pol.Name}),
		Fate:   Encrypted,
		Where:  "encrypt",
		Policy: pol,
		Out:    h.dev,
		Via:    h.via,
	}
	o.Outer = p.Outer(pol)
	return o
}

// sealedBehind is the same behind a tunnel interface: the packets pass the filters of postrouting once more, as they would
// leave by the interface of the tunnel's own packets (seen with Linux 6.1).
func (p *Path) sealedBehind(f Flow, pol *Policy, h hop) []Outcome {
	out, _ := p.Outside(pol.Own, pol.Peer)
	now, done := []Flow{f.with(f.Now.Replace(packet.Out, out).Replace(packet.PeerOut, pol.peer))}, []Outcome(nil)
	for _, c := range p.filter.Bases(model.Postrouting) {
		if c.Kind == model.NATChain {
			continue
		}
		var next []Flow
		for _, one := range now {
			for _, v := range p.filter.Run(c, one) {
				if o, ended := stopped(v, "postrouting"); ended {
					done = append(done, o)
					continue
				}
				next = append(next, v.Flow)
			}
		}
		now = next
	}
	for _, one := range now {
		one.Now = one.Now.Replace(packet.Out, packet.Name(h.dev))
		done = append(done, p.sealed(one, pol, h))
	}
	return done
}

// Known reports whether the saved files say anything about interfaces or routes.
func (p *Path) Known() bool { return p.router.known }

// Routed is a part of a set with the route that it takes; nil for none.
type Routed struct {
	Route   *model.Route
	Packets packet.Set
	Doubts  model.Doubts // why they may take another
}

// Routes splits the packets of a set by the route that they take, in the order in which the kernel asks.
func (p *Path) Routes(s packet.Set) []Routed { return p.router.routes(s) }

// OwnRoutes does as Routes, with the gateway's own routes alone: where networks are, rather than where packets go.
func (p *Path) OwnRoutes(s packet.Set) []Routed { return p.own.routes(s) }

// InstalledFor returns the child for which the IKE daemon installs a route; nil for a route of the gateway's own.
func (p *Path) InstalledFor(r *model.Route) *model.Child { return p.routes[r] }

// Filter returns the gateway's packet filter.
func (p *Path) Filter() *Filter { return p.filter }

// Local follows packets of the gateway's own.
func (p *Path) Local(s packet.Set) []Outcome { return p.local(ownPackets(s), false, nil) }

// ownPackets makes the packets of a set those of a new connection of the gateway's own.
func ownPackets(s packet.Set) Flow {
	return Start(s.And(own))
}

// local follows packets of the gateway itself; restore is as in hop.
func (p *Path) local(f Flow, esp bool, restore func(Flow) Flow) []Outcome {
	var out []Outcome
	for _, h := range p.router.Decide(f) {
		h.restore = restore
		switch h.kind {
		case "unicast":
		case "local":
			out = append(out, Outcome{Flow: h.Flow, Fate: Delivered, Where: "route"})
			continue
		default:
			out = append(
				out,
				Outcome{Flow: h.Flow.met(Step{Stage: "route", What: h.kind + " route", Route: h.route}), Fate: Dropped, Where: "route"},
			)
			continue
		}
		flow := p.step(h)
		shares := []share{{flow, nil}}
		if !esp {
			shares = p.split(flow, h.dev)
		}
		for _, s := range shares {
			if s.pol != nil && (s.pol.drops() || !s.pol.passes() && !s.pol.Up && !p.asksLater(h.dev)) {
				out = append(
					out,
					Outcome{
						Flow: s.Flow.met(
							Step{
								Stage: "policy",
								What: "policy " + s.pol.Name +
									map[bool]string{true: " drops", false: " blocks it: no SA is up"}[s.pol.drops()],
							},
						),
						Fate:   Dropped,
						Where:  "policy",
						Policy: s.pol,
					},
				)
				continue
			}
			for _, v := range p.filter.Through(model.Output, s.Flow) {
				if o, done := stopped(v, "output"); done {
					out = append(out, o)
					continue
				}
				if esp {
					out = joined(out, p.espLeaves(v.Flow, h))
					continue
				}
				out = joined(out, p.leave(v.Flow, s.pol, h))
			}
		}
	}
	return out
}

// InterfaceFor returns the interface behind which an address lies: the one that the routing decision names; "" where the
// saved files do not tell.
func (p *Path) InterfaceFor(a netip.Addr) string {
	for _, h := range p.router.Decide(Start(packet.Range(packet.Dst, a, a))) {
		if h.kind == "unicast" {
			return h.dev
		}
	}
	return ""
}

// String says what became of the packets, in a few words.
func (o Outcome) String() string {
	switch o.Fate {
	case Encrypted:
		return fmt.Sprintf("encrypted by %s", o.Policy.Name)
	case Dropped:
		return "dropped in " + o.Where
	case Clear:
		return "in the clear"
	}
	return string(o.Fate)
}
