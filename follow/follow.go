// Package follow answers where a packet goes, or every packet of a set: through one gateway, its tunnel and the gateway
// at the far end, and where the answer goes from there.
package follow

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/model"
	"toril/negotiate"
	"toril/packet"
	"toril/pair"
	"toril/walk"
)

// maxTunnels bounds through how many tunnels, one after the other, packets are followed.
const maxTunnels = 8

// Question is what is asked.
type Question struct {
	Gateway *model.Gateway // that the packets come to
	Packets packet.Set     // addresses, protocol and ports
	In      string         // the interface that they come in by; "" where they are expected from
	Down    bool           // no child of any gateway has an SA
}

// Trip is one gateway's part of the way.
type Trip struct {
	Gateway *model.Gateway
	In      string         // the interface that the packets come in by; "" for any
	Own     bool           // they are the gateway's own
	Out     *walk.Policy   // the tunnel that they come out of; nil for none
	Arrival []walk.Outcome // what became of the ESP packets that carry them
	Parts   []*Part        // by fate and by the rules that they met
}

// Part is packets that share their fate.
type Part struct {
	walk.Outcome
	Came packet.Set // the packets as they came to this gateway
	// First is an example of them as it came, and Last as it left or ended.
	First, Last packet.Packet
	Crossing    *Crossing // of encrypted packets
	Answer      []*Leg    // the way back of the example, from where it ended; nil where nothing comes back
	Stray       string    // why the answer does not come back the way that the packets came; "" where it does
}

// Crossing is what becomes of encrypted packets behind the gateway.
type Crossing struct {
	Tunnel *pair.Tunnel
	Lost   string        // why they do not come out of the tunnel; "" where they do
	Where  *walk.Outcome // what stopped the ESP packets; nil where nothing did
	Notes  []string      // whether both ends would agree on the child
	Trip   *Trip         // at the far gateway; nil where it was not given, or they are lost
}

// Leg is one gateway's part of the way back.
type Leg struct {
	Gateway *model.Gateway
	Parts   []walk.Outcome
}

// guide is one question at work.
type guide struct {
	estate *pair.Whole
	down   bool
	paths  map[*model.Gateway]*walk.Path
	agreed map[*pair.Tunnel][]negotiate.Attempt
}

// passage is one gateway that an example went through.
type passage struct {
	gateway     *model.Gateway
	first, last packet.Packet
	in          string
	from        *walk.Policy // the tunnel that it came out of here
}

// Ask follows the packets of a question. The error is that their sets become too complex.
func Ask(e *pair.Whole, q Question) (trips []*Trip, err error) {
	g := &guide{estate: e, down: q.Down, paths: map[*model.Gateway]*walk.Path{}, agreed: map[*pair.Tunnel][]negotiate.Attempt{}}
	err = packet.Guard(func() { trips = g.begin(q) })
	return trips, err
}

func (g *guide) path(of *model.Gateway) *walk.Path {
	if g.paths[of] == nil {
		opts := walk.Options{}
		if g.down {
			opts.Down = func(*model.Child) bool { return true }
		}
		g.paths[of] = walk.NewPath(of, g.estate.Ends(of), opts)
	}
	return g.paths[of]
}

// begin splits the packets by where they come from: the gateway itself, or one of its interfaces.
func (g *guide) begin(q Question) []*Trip {
	path := g.path(q.Gateway)
	own := packet.None()
	for _, i := range q.Gateway.Interfaces {
		for _, a := range i.Addresses {
			own = own.Or(packet.Range(packet.Src, a.Addr(), a.Addr()))
		}
	}
	var trips []*Trip
	if mine := q.Packets.And(own); !mine.Empty() && q.In == "" {
		t := &Trip{Gateway: q.Gateway, Own: true}
		g.parts(t, path.Local(mine), nil)
		trips = append(trips, t)
		q.Packets = q.Packets.Minus(own)
	}
	for _, from := range g.entries(path, q) {
		t := &Trip{Gateway: q.Gateway, In: from.in}
		f := walk.Fresh(from.set, from.in).Unsure(packet.In, from.doubts)
		f.Now = f.Now.Minus(packet.Where(packet.In, packet.Name("")))
		g.parts(t, path.Forward(f), nil)
		trips = append(trips, t)
	}
	return trips
}

type entry struct {
	in     string
	set    packet.Set
	doubts model.Doubts // why they may come in by another interface
}

// entries are the interfaces that packets are expected from: those by which their sources are reached.
func (g *guide) entries(path *walk.Path, q Question) []entry {
	if q.Packets.Empty() {
		return nil
	}
	if q.In != "" || !path.Known() {
		return []entry{{q.In, q.Packets, nil}}
	}
	var out []entry
	for _, part := range path.OwnRoutes(q.Packets.Mirror()) {
		dev := ""
		if part.Route != nil {
			dev = part.Route.Dev
		}
		set := part.Packets.Mirror().And(q.Packets)
		if i := slices.IndexFunc(out, func(e entry) bool { return e.in == dev }); i >= 0 {
			out[i].set = out[i].set.Or(set)
			out[i].doubts.Add(part.Doubts...)
			continue
		}
		out = append(out, entry{dev, set, part.Doubts})
	}
	return out
}

// parts makes parts of outcomes, and follows each to its end. before are the gateways that the packets went through.
func (g *guide) parts(t *Trip, outcomes []walk.Outcome, before []passage) {
	for _, o := range joined(outcomes) {
		p := &Part{Outcome: o, Came: o.Was().Free(packet.Out, packet.PeerOut, packet.Translated)}
		p.First, _ = o.Was().Witness()
		p.First.Out, p.First.PeerOut, p.First.Translated = "", netip.Addr{}, 0
		p.Last = g.last(t, p)
		t.Parts = append(t.Parts, p)
		way := append(slices.Clip(before), passage{t.Gateway, p.First, p.Last, t.In, t.Out})
		switch o.Fate {
		case walk.Encrypted:
			p.Crossing = g.cross(t.Gateway, p, way)
		case walk.Clear, walk.Delivered:
			p.Answer, p.Stray = g.back(p.Outcome, way)
		}
	}
}

// joined makes one outcome of those that met the same and were not rewritten.
func joined(in []walk.Outcome) []walk.Outcome {
	var out []walk.Outcome
	for _, o := range in {
		if o.Now.Empty() {
			continue
		}
		i := slices.IndexFunc(out, func(x walk.Outcome) bool {
			return x.Fate == o.Fate && x.Out == o.Out && x.Policy == o.Policy && !x.Changed() && !o.Changed() &&
				slices.Equal(x.Steps, o.Steps) &&
				slices.Equal(x.Doubts, o.Doubts)
		})
		if i < 0 {
			out = append(out, o)
			continue
		}
		out[i].Now = out[i].Now.Or(o.Now)
	}
	return out
}

// last is the example as it left: the packet is walked alone.
func (g *guide) last(t *Trip, p *Part) packet.Packet {
	fallback, _ := p.Now.Witness()
	if !p.Changed() {
		fallback = p.First
	}
	path := g.path(t.Gateway)
	var alone []walk.Outcome
	if t.Own {
		alone = path.Local(p.First.Set().Free(packet.State, packet.Direction))
	} else {
		alone = path.Forward(walk.Start(p.First.Set()))
	}
	for _, o := range alone {
		if o.Fate == p.Fate && o.Where == p.Where && o.Now.Overlaps(p.Now) {
			w, _ := o.Now.And(p.Now).Witness()
			return w
		}
	}
	return fallback
}

// tunnelOf returns the tunnel that a policy belongs to, and its end.
func (g *guide) tunnelOf(at *model.Gateway, pol *walk.Policy) (*pair.Tunnel, pair.End) {
	for _, t := range g.estate.Tunnels {
		for _, end := range t.Ends {
			if end.Gateway == at && end.Connection == pol.Connection && t.Own(end) == pol.Own && t.Peer(end) == pol.Peer {
				return t, end
			}
		}
	}
	return nil, pair.End{}
}

// policies are those of an end of a tunnel, in the order in which its kernel asks them.
func (g *guide) policies(t *pair.Tunnel, end pair.End) []*walk.Policy {
	var out []*walk.Policy
	for _, pol := range g.path(end.Gateway).Policies {
		if pol.Connection == end.Connection && pol.Own == t.Own(end) && pol.Peer == t.Peer(end) {
			out = append(out, pol)
		}
	}
	return out
}

// cross follows encrypted packets to the far gateway.
func (g *guide) cross(from *model.Gateway, p *Part, way []passage) *Crossing {
	c := &Crossing{}
	t, end := g.tunnelOf(from, p.Policy)
	c.Tunnel = t
	if stop := stopped(p.Outer); stop != nil {
		c.Lost, c.Where = "the ESP packets do not leave "+from.Name, stop
		return c
	}
	if t == nil {
		c.Lost = "no tunnel was made of the connection"
		return c
	}
	far, ok := t.Far(end)
	if !ok {
		return c
	}
	c.Notes = g.agreement(t, p.Policy.Child)
	plain := p.Now.OnTheWire()
	sealed := plain // what was encrypted: the packets, or those that they are wrapped in
	if p.Wrap != nil {
		sealed = p.Wrap.Outer.Now.OnTheWire()
	}
	pol := g.farPolicy(t, far, p.Policy.Child, sealed)
	if pol == nil {
		c.Lost = fmt.Sprintf("no child of %s is for them", far.Name())
		return c
	}
	path := g.path(far.Gateway)
	if p.Wrap != nil && len(pol.Wraps) == 0 {
		c.Lost = fmt.Sprintf("no interface of %s takes them out of what %s wrapped them in", far.Gateway.Name, p.Wrap.By.Name)
		return c
	}
	trip := &Trip{Gateway: far.Gateway, In: path.Entry(pol), Out: pol, Arrival: path.Arrive(pol)}
	if stop := stopped(trip.Arrival); stop != nil {
		c.Lost, c.Where = fmt.Sprintf("the ESP packets are blocked at %s", far.Gateway.Name), stop
		return c
	}
	if len(way) >= maxTunnels {
		c.Lost = "they have gone through too many tunnels to be followed on"
		return c
	}
	for _, w := range way {
		if w.gateway == far.Gateway {
			c.Lost = "they come back to " + far.Gateway.Name + ": they go in a circle"
			return c
		}
	}
	_, inner := path.Inbound(pol, plain)
	g.parts(trip, inner, way)
	if rest := sealed.Minus(pol.Back()); !rest.Empty() {
		c.Notes = append(c.Notes, fmt.Sprintf("%s has no child for a part of them: %s", far.Gateway.Name, rest))
	}
	c.Trip = trip
	return c
}

// farPolicy is the policy of the far end whose child belongs to the one that encrypted.
func (g *guide) farPolicy(t *pair.Tunnel, far pair.End, child *model.Child, plain packet.Set) *walk.Policy {
	twin := map[*model.Child]bool{}
	for _, pair := range t.Children() {
		switch child {
		case pair.A:
			twin[pair.B] = true
		case pair.B:
			twin[pair.A] = true
		}
	}
	var other *walk.Policy
	for _, pol := range g.policies(t, far) {
		if !plain.Overlaps(pol.Back()) {
			continue
		}
		if twin[pol.Child] {
			return pol
		}
		if other == nil {
			other = pol
		}
	}
	return other
}

// agreement says where both ends would not agree on a child.
func (g *guide) agreement(t *pair.Tunnel, child *model.Child) []string {
	if g.agreed[t] == nil {
		g.agreed[t] = negotiate.Tunnel(t)
	}
	var out []string
	for _, a := range g.agreed[t] {
		who := "with " + a.Initiator.Gateway.Name + " as initiator "
		if a.Failure != nil {
			out = append(out, who+"the IKE SA does not come up: "+a.Failure.Why)
			continue
		}
		why, agreed := "", false
		for _, c := range a.Children {
			if c.Of == child || c.With == child {
				agreed = agreed || c.Failure == nil
				if c.Failure != nil && (why == "" || c.Of == child) {
					why = c.Failure.Why
				}
			}
		}
		if why != "" && !agreed {
			out = append(out, who+"the child does not come up: "+why)
		}
	}
	return out
}

// stopped returns the outcome that stops all of some ESP packets; nil where some pass, or nothing is known.
func stopped(os []walk.Outcome) *walk.Outcome {
	for _, o := range os {
		if o.Fate != walk.Dropped {
			return nil
		}
	}
	if len(os) == 0 {
		return nil
	}
	return &os[0]
}

// back follows the answer to an example from its end to where it began. stray says why it does not get there.
func (g *guide) back(o walk.Outcome, way []passage) (legs []*Leg, stray string) {
	if oneWay(way[len(way)-1].last) {
		return nil, ""
	}
	for i := len(way) - 1; i >= 0; i-- {
		at := way[i]
		path := g.path(at.gateway)
		var parts []walk.Outcome
		switch {
		case i == len(way)-1 && o.Fate == walk.Delivered:
			parts = path.ReplySelf(at.first, at.last)
		case i == len(way)-1:
			parts = path.Reply(at.first, at.last, o.Out, netip.Addr{})
		default:
			pol := way[i+1].from
			near := g.nearPolicy(at.gateway, pol)
			if near == nil {
				return legs, "the reply cannot come out of the tunnel at " + at.gateway.Name
			}
			if stop := stopped(path.Arrive(near)); stop != nil {
				return legs, fmt.Sprintf("the ESP packets of the reply are blocked at %s: %s", at.gateway.Name, *stop)
			}
			parts = path.Reply(at.first, at.last, path.Entry(near), near.Peer)
		}
		parts = joined(parts)
		legs = append(legs, &Leg{at.gateway, parts})
		if len(parts) != 1 {
			return legs, ""
		}
		got := parts[0]
		switch {
		case i == 0:
			stray = homeward(got, at)
			return legs, stray
		case got.Fate != walk.Encrypted:
			return legs, fmt.Sprintf("at %s the reply is %s, not encrypted", at.gateway.Name, got)
		case got.Policy.Connection != at.from.Connection:
			return legs, fmt.Sprintf("at %s the reply goes into another tunnel, %s", at.gateway.Name, got.Policy.Name)
		}
		if stop := stopped(got.Outer); stop != nil {
			return legs, fmt.Sprintf("the ESP packets of the reply do not leave %s: %s", at.gateway.Name, *stop)
		}
	}
	return legs, stray
}

// homeward says whether an answer leaves the first gateway towards where the packet came from.
func homeward(got walk.Outcome, at passage) string {
	switch {
	case got.Fate == walk.Delivered && at.in == "":
		return ""
	case got.Fate != walk.Clear:
		return fmt.Sprintf("at %s the reply is %s", at.gateway.Name, got)
	case at.in != "" && got.Out != "" && at.in != got.Out:
		return fmt.Sprintf("the packets came to %s on %s, and the reply leaves via %s", at.gateway.Name, at.in, got.Out)
	}
	return ""
}

// nearPolicy is the policy, at the gateway that encrypted, of the tunnel whose far policy is given.
func (g *guide) nearPolicy(at *model.Gateway, far *walk.Policy) *walk.Policy {
	for _, t := range g.estate.Tunnels {
		for _, end := range t.Ends {
			other, ok := t.Far(end)
			if end.Gateway != at || !ok || other.Connection != far.Connection {
				continue
			}
			if ps := g.policies(t, end); len(ps) > 0 {
				return ps[0]
			}
		}
	}
	return nil
}

// oneWay reports whether nothing answers a packet of this kind: ICMP other than an echo request.
func oneWay(p packet.Packet) bool {
	return p.Proto == 1 && p.ICMP>>8 != 8 || p.Proto == 58 && p.ICMP>>8 != 128
}
