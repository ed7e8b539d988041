// Package observe lays what saved status shows beside what is configured and what is predicted: which SA is of which child, what it is
// protected by, and whether packets pass in both directions.
package observe

import (
	"cmp"
	"net/netip"
	"slices"

	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/source"
)

// End is what was observed of one end of a tunnel.
type End struct {
	pair.End
	IKE      []*model.IKESA   // of its connection, those that are up first
	Children []Child          // as they are configured, without those that protect nothing
	Failures []*model.Failure // of its negotiations
	Loaded   *model.Loaded    // as the daemon has it; nil where it is not in a list that was given, or none was
	Listed   source.Pos       // where a list that would name its SAs begins; nowhere where none was given
	Lists    source.Pos       // likewise of the connections that are loaded
}

// Child is what was observed of one child.
type Child struct {
	Of     *model.Child
	SAs    []*model.ChildSA // that are up, the newest first; what several files say of one is one
	Loaded *model.LoadedChild
}

// Given reports whether any status of the end was given.
func (e *End) Given() bool {
	return len(e.IKE)+len(e.Failures) > 0 || e.Loaded != nil || !e.Listed.IsZero() || !e.Lists.IsZero() ||
		slices.ContainsFunc(e.Children, func(c Child) bool { return len(c.SAs) > 0 })
}

// Up is the newest SA of the child; nil where none was seen up.
func (c *Child) Up() *model.ChildSA {
	if len(c.SAs) == 0 {
		return nil
	}
	return c.SAs[0]
}

// Child returns what was observed of a child; nil for one that protects nothing.
func (e *End) Child(k *model.Child) *Child {
	for i := range e.Children {
		if e.Children[i].Of == k {
			return &e.Children[i]
		}
	}
	return nil
}

// Of says what was observed of an end of a tunnel.
func Of(t *pair.Tunnel, e pair.End) End {
	o := &e.Gateway.Observed
	out := End{End: e}
	own, peer := t.Own(e), t.Peer(e)
	out.IKE = e.Gateway.IKEOf(e.Connection, own, peer)
	slices.SortStableFunc(out.IKE, func(a, b *model.IKESA) int { return cmp.Compare(up(b.Up), up(a.Up)) })
	out.Failures = e.Gateway.FailuresOf(e.Connection, peer)
	out.Lists, _ = o.Lists(model.ListLoaded)
	out.Loaded = e.Gateway.LoadedAs(e.Connection)
	out.Listed, _ = o.Lists(model.ListSAs)
	if out.Listed.IsZero() {
		out.Listed, _ = o.Lists(model.ListKernel)
	}
	named, placed := seen(e, own, peer)
	for _, k := range e.Connection.Children {
		if k.Shunts() {
			continue
		}
		c := Child{Of: k, SAs: ofChild(k, own, peer, named, placed)}
		if out.Loaded != nil {
			c.Loaded = loaded(out.Loaded, k)
		}
		out.Children = append(out.Children, c)
	}
	return out
}

func up(is bool) int {
	if is {
		return 1
	}
	return 0
}

func loaded(l *model.Loaded, k *model.Child) *model.LoadedChild {
	i := slices.IndexFunc(l.Children, func(c *model.LoadedChild) bool { return c.Name == k.Name })
	if i < 0 && len(l.Children) == 1 && l.Children[0].Name == l.Name {
		i = 0 // the daemon has one child a connection, of its name
	}
	if i < 0 {
		return nil
	}
	return l.Children[i]
}

// seen are the SAs of an end that were up: by the names of children that the daemon has for them, those of a daemon that has one child a
// connection under ""; and by the children that they fit best, of the kernel's and of those whose names are nobody's.
func seen(e pair.End, own, peer netip.Addr) (named map[string][]*model.ChildSA, placed map[*model.Child][]*model.ChildSA) {
	byName, byPlace := e.Gateway.ChildrenOf(e.Connection, own, peer)
	named, placed = map[string][]*model.ChildSA{}, map[*model.Child][]*model.ChildSA{}
	for _, sa := range byName {
		name := sa.Name
		if name == sa.Connection {
			name = ""
		}
		if sa.Up {
			named[name] = append(named[name], sa)
		}
	}
	for _, sa := range byPlace {
		if k := best(e, sa, own, peer); k != nil && sa.Up {
			placed[k] = append(placed[k], sa)
		}
	}
	return named, placed
}

// ofChild are the SAs of a child, the newest first; what several files tell of one is one.
func ofChild(
	k *model.Child,
	own, peer netip.Addr,
	named map[string][]*model.ChildSA,
	placed map[*model.Child][]*model.ChildSA,
) []*model.ChildSA {
	var out []*model.ChildSA
	for _, sa := range named[k.Name] {
		out = add(out, sa)
	}
	local, remote := k.Local.Value.At(own), k.Remote.Value.At(peer)
	for _, sa := range named[""] {
		if sa.Name == k.Name || len(sa.Local) == 0 || len(local.Meet(sa.Local)) > 0 && len(remote.Meet(sa.Remote)) > 0 {
			out = add(out, sa)
		}
	}
	for _, sa := range placed[k] {
		out = add(out, sa)
	}
	slices.SortStableFunc(out, func(a, b *model.ChildSA) int { return cmp.Compare(a.Age, b.Age) })
	return out
}

// best is the child of an end whose selectors an SA of the kernel fits best: the same, else those that hold it.
func best(e pair.End, sa *model.ChildSA, own, peer netip.Addr) *model.Child {
	var found *model.Child
	points := 0
	for _, k := range e.Connection.Children {
		if k.Shunts() {
			continue
		}
		local, remote := k.Local.Value.At(own), k.Remote.Value.At(peer)
		n := 0
		switch {
		case Same(local, sa.Local) && Same(remote, sa.Remote):
			n = 3
		case Holds(local, sa.Local) && Holds(remote, sa.Remote):
			n = 2
		}
		if n > points {
			found, points = k, n
		}
	}
	return found
}

// Holds reports whether every one of some selectors is inside one of others.
func Holds(ss, inner ike.Selectors) bool {
	return len(inner) > 0 && !slices.ContainsFunc(inner, func(t ike.Selector) bool {
		return !slices.ContainsFunc(ss, func(s ike.Selector) bool { return s.Holds(t) })
	})
}

// Same reports whether two lists of selectors mean the same packets.
func Same(a, b ike.Selectors) bool { return Holds(a, b) && Holds(b, a) }

// add puts an SA to others; one that another file told of too is completed by what that did not tell.
func add(to []*model.ChildSA, sa *model.ChildSA) []*model.ChildSA {
	for i, old := range to {
		same := old.In.SPI == sa.In.SPI && old.Out.SPI == sa.Out.SPI
		if !same && (old.In.SPI != 0 && sa.In.SPI != 0) {
			continue
		}
		one := *old
		if len(one.Local) == 0 {
			one.Local, one.Remote = sa.Local, sa.Remote
		}
		if !one.Suite.Valid() {
			one.Suite = sa.Suite
		}
		one.In, one.Out = complete(one.In, sa.In), complete(one.Out, sa.Out)
		one.Age = max(one.Age, sa.Age)
		one.Kernel = one.Kernel && sa.Kernel
		to[i] = &one
		return to
	}
	return append(to, sa)
}

// complete takes the larger counters: the file that was saved later has them.
func complete(c, d model.Counter) model.Counter {
	if c.SPI == 0 {
		c.SPI = d.SPI
	}
	if d.Told && (!c.Told || d.Bytes > c.Bytes) {
		c.Bytes, c.Told, c.At = d.Bytes, true, d.At
	}
	c.Packets = max(c.Packets, d.Packets)
	return c
}
