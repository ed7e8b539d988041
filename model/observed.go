package model

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/source"
)

// Observed is what saved status shows that a gateway did: it stands beside the settings, and never inside them.
type Observed struct {
	IKE      []*IKESA      // as daemons list them
	Children []*ChildSA    // as daemons list them, and as the kernel holds them
	Kernel   []*KernelSA   // as the kernel holds them, one a direction
	Policies []*KernelRule // as the kernel holds them
	Loaded   []*Loaded     // what daemons say they have loaded
	Failures []*Failure    // negotiations that failed, by the daemon's log
	Traffic  []*Traffic    // counters of interfaces
	Flows    []*Flow       // connections that the kernel tracks
	Listed   []Listed      // which lists were given, so that what is not in them is not there
}

// List is a kind of saved status.
type List uint8

// The lists.
const (
	ListSAs    List = iota // all IKE and child SAs of a daemon
	ListLoaded             // all connections that a daemon has loaded
	ListKernel             // all SAs of the kernel
)

// Listed is a list that was given.
type Listed struct {
	List
	At source.Pos
}

// Lists returns where a list was given; ok is false where it was not.
func (o *Observed) Lists(l List) (at source.Pos, ok bool) {
	i := slices.IndexFunc(o.Listed, func(g Listed) bool { return g.List == l })
	if i < 0 {
		return source.Pos{}, false
	}
	return o.Listed[i].At, true
}

// Given reports whether anything was observed of the gateway's tunnels.
func (o *Observed) Given() bool {
	return len(o.IKE)+len(o.Children)+len(o.Loaded)+len(o.Failures)+len(o.Listed) > 0
}

// IKESA is an IKE SA that was seen.
type IKESA struct {
	At            source.Pos
	Connection    string // the name under which the daemon has it
	Up            bool   // established
	State         string // in the daemon's word
	Version       ike.Version
	Local, Remote netip.Addr
	Suite         ike.Suite
	Age           time.Duration // since it was established; 0 where that is not told
}

// ChildSA is a child SA that was seen, with both directions.
type ChildSA struct {
	At            source.Pos
	Connection    string // the name under which the daemon has it; "" for one of the kernel's
	Name          string // of the child, likewise
	Up            bool   // installed
	State         string // in the daemon's word
	Protocol      ike.Protocol
	Mode          ike.Mode
	Encapsulated  bool
	Suite         ike.Suite // without a key exchange where that is not told, or came with the IKE SA
	Local, Remote ike.Selectors
	In, Out       Counter
	OwnAddr, Peer netip.Addr
	Age           time.Duration // since it was installed; 0 where that is not told
	Kernel        bool
}

// Counter is one direction of a child SA.
type Counter struct {
	SPI     uint32 // 0: not told
	Bytes   uint64
	Packets uint64
	Told    bool       // bytes were told
	At      source.Pos // where
}

// KernelSA is one direction of a child SA as the kernel holds it.
type KernelSA struct {
	At       source.Pos
	Src, Dst netip.Addr
	Protocol ike.Protocol
	Mode     ike.Mode
	Counter
	ReqID   uint32
	Suite   ike.Suite
	Added   time.Time // by the gateway's clock; zero where it is not told
	Encap   bool
	Replays uint64 // packets that came twice or too late
	Failed  uint64 // packets whose integrity was wrong
}

// KernelRule is an IPsec policy as the kernel holds it.
type KernelRule struct {
	At       source.Pos
	Dir      string // "out", "in", "fwd"
	Src, Dst ike.Selector
	ReqID    uint32
	Own      netip.Addr // of its template
	Peer     netip.Addr
	Mode     ike.Mode
	Protocol ike.Protocol
}

// Loaded is a connection that a daemon says it has loaded.
type Loaded struct {
	At       source.Pos
	Name     string
	Version  ike.Version
	Local    []string // addresses, as written
	Remote   []string
	Rekey    time.Duration // of the IKE SA; negative where it is not told
	Children []*LoadedChild
}

// LoadedChild is a child of one.
type LoadedChild struct {
	At            source.Pos
	Name          string
	Local, Remote ike.Selectors
	Rekey         time.Duration // negative where it is not told
}

// Failure is a negotiation that failed, as a log tells it.
type Failure struct {
	At         source.Pos
	When       string // as the log writes it
	Connection string // "" where the log does not tell
	Child      string
	Peer       netip.Addr
	Notify     string // RFC 7296, section 3.10.1: "NO_PROPOSAL_CHOSEN"; "" for none
	Sent       bool   // this gateway sent the notify
	What       string // in words of ours: "the IKE proposals", "the traffic selectors"
	Received   string // what came, as the log writes it; "" where it does not tell
	Configured string // what is configured, likewise
	Rekey      bool   // a child SA that was up could not be rekeyed
	Times      int    // how often it failed so
}

// Traffic is what an interface counted.
type Traffic struct {
	At                source.Pos
	Interface         string
	BytesIn, BytesOut uint64
	Errors, Dropped   uint64 // of both directions
}

// Flow is a connection that the kernel tracks: as it began, and as its replies are expected.
type Flow struct {
	At         source.Pos
	Src, Dst   netip.Addr
	RSrc, RDst netip.Addr // of replies
}

// maxFailures bounds the different failures that are kept of one log.
const maxFailures = 200

// Fail keeps a failure that a log tells of; the same again is counted, and the latest holds.
func (o *Observed) Fail(f Failure) *Failure {
	for _, text := range []*string{&f.Connection, &f.Child, &f.Received, &f.Configured, &f.What} {
		*text = source.Shorten(source.Clean(*text), 400)
	}
	i := slices.IndexFunc(o.Failures, func(g *Failure) bool {
		return g.Connection == f.Connection && g.Child == f.Child && g.Notify == f.Notify && g.What == f.What && g.Sent == f.Sent &&
			(g.Peer == f.Peer || !g.Peer.IsValid() || !f.Peer.IsValid())
	})
	f.Times = 1
	if i >= 0 {
		f.Times = o.Failures[i].Times + 1
		o.Failures = slices.Delete(o.Failures, i, i+1)
	}
	if len(o.Failures) == maxFailures { // the latest count
		o.Failures = o.Failures[1:]
	}
	o.Failures = append(o.Failures, &f)
	return &f
}

// Overcome drops the failures that a later success follows.
func (o *Observed) Overcome(by func(*Failure) bool) { o.Failures = slices.DeleteFunc(o.Failures, by) }

// seenIndex finds what was observed of one connection.
type seenIndex struct {
	known    map[string]bool // names of connections that are configured
	ike      map[string][]*IKESA
	children map[string][]*ChildSA
	loaded   map[string]*Loaded
	failures map[string][]*Failure
	ikeAt    map[[2]netip.Addr][]*IKESA // of names that are not configured
	childAt  map[[2]netip.Addr][]*ChildSA
	failedAt map[netip.Addr][]*Failure

	translated []*Flow
}

// configuredAs returns the name under which a connection that a daemon names is configured: a daemon that makes several of one puts
// numbers behind it ("depot/1x2"). "" where none is.
func (x *seenIndex) configuredAs(name string) string {
	if x.known[name] {
		return name
	}
	if base, rest, ok := strings.Cut(name, "/"); ok && x.known[base] && strings.Trim(rest, "0123456789x") == "" {
		return base
	}
	return ""
}

func (g *Gateway) seen() *seenIndex {
	x := &g.index.seen
	g.index.seenOnce.Do(func() {
		*x = seenIndex{
			known: map[string]bool{}, ike: map[string][]*IKESA{}, children: map[string][]*ChildSA{}, loaded: map[string]*Loaded{},
			failures: map[string][]*Failure{}, ikeAt: map[[2]netip.Addr][]*IKESA{}, childAt: map[[2]netip.Addr][]*ChildSA{},
			failedAt: map[netip.Addr][]*Failure{},
		}
		for _, c := range g.Connections {
			x.known[c.Name] = true
		}
		for _, sa := range g.Observed.IKE {
			if name := x.configuredAs(sa.Connection); name != "" {
				x.ike[name] = append(x.ike[name], sa)
			} else {
				x.ikeAt[[2]netip.Addr{sa.Local, sa.Remote}] = append(x.ikeAt[[2]netip.Addr{sa.Local, sa.Remote}], sa)
			}
		}
		for _, sa := range g.Observed.Children {
			if name := x.configuredAs(sa.Connection); name != "" {
				x.children[name] = append(x.children[name], sa)
			} else {
				x.childAt[[2]netip.Addr{sa.OwnAddr, sa.Peer}] = append(x.childAt[[2]netip.Addr{sa.OwnAddr, sa.Peer}], sa)
			}
		}
		for _, f := range g.Observed.Flows {
			if f.RSrc == f.Dst && f.RDst != f.Src && f.RDst.IsValid() && len(x.translated) < maxTranslated {
				x.translated = append(x.translated, f)
			}
		}
		for _, l := range g.Observed.Loaded {
			if name := x.configuredAs(l.Name); name != "" && x.loaded[name] == nil {
				x.loaded[name] = l
			}
		}
		for _, f := range g.Observed.Failures {
			if name := x.configuredAs(f.Connection); name != "" {
				x.failures[name] = append(x.failures[name], f)
			} else if f.Peer.IsValid() {
				x.failedAt[f.Peer] = append(x.failedAt[f.Peer], f)
			}
		}
	})
	return x
}

// IKEOf returns the IKE SAs that were seen of a connection: those of its name, and those between its addresses that no configured
// connection has the name of.
func (g *Gateway) IKEOf(c *Connection, own, peer netip.Addr) []*IKESA {
	x := g.seen()
	return append(slices.Clone(x.ike[c.Name]), x.ikeAt[[2]netip.Addr{own, peer}]...)
}

// ChildrenOf returns the child SAs that were seen of a connection, as IKEOf does; the kernel's have no names.
func (g *Gateway) ChildrenOf(c *Connection, own, peer netip.Addr) (named, placed []*ChildSA) {
	x := g.seen()
	return x.children[c.Name], x.childAt[[2]netip.Addr{own, peer}]
}

// LoadedAs returns what a daemon has loaded as a connection; nil where it is in no list that was given.
func (g *Gateway) LoadedAs(c *Connection) *Loaded { return g.seen().loaded[c.Name] }

// FailuresOf returns the failures of a connection: those of its name, and those with its peer that name none.
func (g *Gateway) FailuresOf(c *Connection, peer netip.Addr) []*Failure {
	x := g.seen()
	if !peer.IsValid() {
		return x.failures[c.Name]
	}
	return append(slices.Clone(x.failures[c.Name]), x.failedAt[peer]...)
}

// Unconfigured is what was seen of no connection that is configured. SAs of the kernel count only where none is.
func (g *Gateway) Unconfigured() (out Observed) {
	x := g.seen()
	for _, sa := range g.Observed.IKE {
		if x.configuredAs(sa.Connection) == "" {
			out.IKE = append(out.IKE, sa)
		}
	}
	for _, l := range g.Observed.Loaded {
		if x.configuredAs(l.Name) == "" {
			out.Loaded = append(out.Loaded, l)
		}
	}
	for _, sa := range g.Observed.Children {
		if x.configuredAs(sa.Connection) == "" && (!sa.Kernel || len(g.Connections) == 0) {
			out.Children = append(out.Children, sa)
		}
	}
	for _, f := range g.Observed.Failures {
		if x.configuredAs(f.Connection) == "" && len(g.Connections) == 0 {
			out.Failures = append(out.Failures, f)
		}
	}
	return out
}

// maxTranslated bounds the translated connections of a gateway that are looked at.
const maxTranslated = 20_000

// Translated are the tracked connections whose source was translated: their replies are expected at another address.
func (g *Gateway) Translated() []*Flow {
	return g.seen().translated
}

// join takes over what another file shows.
func (o *Observed) join(p *Observed) {
	o.IKE = append(o.IKE, p.IKE...)
	o.Children = append(o.Children, p.Children...)
	o.Kernel = append(o.Kernel, p.Kernel...)
	o.Policies = append(o.Policies, p.Policies...)
	o.Loaded = append(o.Loaded, p.Loaded...)
	o.Failures = append(o.Failures, p.Failures...)
	o.Traffic = append(o.Traffic, p.Traffic...)
	o.Flows = append(o.Flows, p.Flows...)
	o.Listed = append(o.Listed, p.Listed...)
}

// Couple makes child SAs of what the kernel holds: both directions belong together by the request that they were made for, and the
// policies of that request tell the selectors. The newest SA of each direction counts; a request without a policy is none.
func (o *Observed) Couple() {
	type request struct {
		id        uint32
		own, peer netip.Addr
	}
	of := map[request]*ChildSA{}
	var order []request
	for _, p := range o.Policies {
		if p.Dir != "out" || !p.Own.IsValid() || !p.Peer.IsValid() {
			continue
		}
		r := request{p.ReqID, p.Own, p.Peer}
		c := of[r]
		if c == nil {
			c = &ChildSA{At: p.At, Protocol: p.Protocol, Mode: p.Mode, OwnAddr: p.Own, Peer: p.Peer, Kernel: true}
			of[r], order = c, append(order, r)
		}
		if !slices.Contains(c.Local, p.Src) {
			c.Local = append(c.Local, p.Src)
		}
		if !slices.Contains(c.Remote, p.Dst) {
			c.Remote = append(c.Remote, p.Dst)
		}
	}
	newest := map[*ChildSA][2]*KernelSA{}
	for _, s := range o.Kernel {
		if c := of[request{s.ReqID, s.Src, s.Dst}]; c != nil && later(newest[c][0], s) {
			newest[c] = [2]*KernelSA{s, newest[c][1]}
		}
		if c := of[request{s.ReqID, s.Dst, s.Src}]; c != nil && later(newest[c][1], s) {
			newest[c] = [2]*KernelSA{newest[c][0], s}
		}
	}
	for _, r := range order {
		c := of[r]
		out, in := newest[c][0], newest[c][1]
		if out == nil || in == nil || out.SPI == 0 || in.SPI == 0 {
			continue
		}
		c.Up, c.State, c.Suite, c.At = true, "installed", out.Suite, out.At
		c.Out, c.In, c.Encapsulated = out.Counter, in.Counter, out.Encap
		c.In.At, c.Out.At = in.At, out.At
		o.Children = append(o.Children, c)
	}
}

// later reports whether an SA takes the place of another, which may be nil.
func later(old, s *KernelSA) bool { return old == nil || !s.Added.Before(old.Added) }
