package changes

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
	"toril/pair"
	"toril/source"
	"toril/walk"
)

// comparison is two estates in the course of being compared.
type comparison struct {
	old, now *pair.Whole
	table    []*settings.Row
	found    []Change
}

// note puts a change down. at is where it stands now, was where it stood.
func (c *comparison) note(x Change, at, was source.Pos) {
	if x.At = c.now.Place(at); at.IsZero() {
		x.At = c.old.Place(was)
	}
	c.found = append(c.found, x)
}

// doubt makes the changes that a function notes unsure for doubts about either side. Where both sides have some, a change between two
// values that are both configured is one all the same; where one has, it may say the value again.
func (c *comparison) doubt(old, now model.Doubts, compare func()) {
	before := len(c.found)
	compare()
	why := strings.Join(old.And(now).Told(), "; ")
	for i := before; i < len(c.found) && why != ""; i++ {
		if x := &c.found[i]; x.Unsure == "" && !(x.configured && len(old) > 0 && len(now) > 0) {
			x.Unsure = why
		}
	}
}

// gateway compares what two estates say of one gateway.
func (c *comparison) gateway(name string, old, now *model.Gateway, had, has bool) {
	switch {
	case !had:
		added := Change{Subject: name, What: "gateway", New: name, Says: "gateway added", Unsure: failed(c.old, name)}
		c.note(added, source.Pos{}, source.Pos{})
		return
	case !has:
		removed := Change{Subject: name, What: "gateway", Old: name, Says: "gateway removed", Unsure: failed(c.now, name)}
		c.note(removed, source.Pos{}, source.Pos{})
		return
	}
	c.doubt(old.Doubts(model.AboutIKE), now.Doubts(model.AboutIKE), func() {
		byName(old.Connections, now.Connections, func(x *model.Connection) string { return x.Name },
			func(n string, a, b *model.Connection, had, has bool) { c.connection(name+"/"+n, a, b, had, has) })
	})
	c.doubt(old.Doubts(model.AboutKeys), now.Doubts(model.AboutKeys), func() { c.keys(name, old, now) })
	c.filters(name, old, now)
	c.doubt(old.UnreadNetwork(), now.UnreadNetwork(), func() { c.network(name, old, now) })
}

// failed says which file of a gateway an estate has and could not read; "" for none.
func failed(e *pair.Whole, name string) string {
	for _, p := range e.Problems {
		if slices.Contains(strings.Split(path.Dir(p.File), "/"), name) {
			return p.Error()
		}
	}
	return ""
}

// connection compares a connection, and its children.
func (c *comparison) connection(name string, old, now *model.Connection, had, has bool) {
	switch {
	case !had:
		c.note(Change{Subject: name, What: "connection", New: name, Says: "connection added"}, now.At, source.Pos{})
		return
	case !has:
		c.note(Change{Subject: name, What: "connection", Old: name, Says: "connection removed"}, source.Pos{}, old.At)
		return
	}
	c.doubt(old.Doubts, now.Doubts, func() {
		c.settings(name, settings.OfConnection, settings.Subject{Connection: old}, settings.Subject{Connection: now})
		byName(
			old.Children,
			now.Children,
			func(k *model.Child) string { return k.Name },
			func(n string, a, b *model.Child, had, has bool) {
				switch of := name + "/" + n; {
				case !had:
					c.note(Change{Subject: of, What: "child", New: networks(b), Says: "child added: " + networks(b)}, b.At, source.Pos{})
				case !has:
					c.note(
						Change{Subject: of, What: "child", Old: networks(a), Says: "child removed: " + networks(a)},
						source.Pos{},
						a.At,
					)
				default:
					c.doubt(a.Doubts, b.Doubts, func() {
						c.settings(
							of,
							settings.OfChild,
							settings.Subject{Connection: old, Child: a},
							settings.Subject{Connection: now, Child: b},
						)
					})
				}
			},
		)
	})
}

func networks(k *model.Child) string {
	return fmt.Sprintf("%s to %s", k.Local.Value, k.Remote.Value)
}

// settings compares the settings of a connection or a child: by their values in words that no daemon's are, so that the same said
// otherwise, or said instead of left to the default, is no change.
func (c *comparison) settings(name string, of settings.Level, old, now settings.Subject) {
	var follow []func() // what nobody says on either side, and follows from something else
	before := len(c.found)
	for _, r := range c.table {
		if r.Of != of || r.Derived && r != settings.PFS.Row {
			continue
		}
		a, had := r.Get(old)
		b, has := r.Get(now)
		if had == has && (!has || same(a, b)) {
			continue
		}
		x := Change{Subject: name, What: r.Label(now), Old: a.Plain, New: b.Plain}
		if !has {
			x.What = r.Label(old)
		}
		x.Says = says(r, x, a, b)
		x.configured = had && has && !a.Default && !b.Default && !several(r)
		if a.Default && b.Default {
			x.Says += " (daemon default)"
			follow = append(follow, func() { c.note(x, b.At, a.At) })
			continue
		}
		c.note(x, b.At, a.At)
	}
	if len(c.found) == before {
		for _, f := range follow {
			f()
		}
	}
}

// several reports whether a setting may be configured in pieces: where one of them was not understood, the others are not all of it.
func several(r *settings.Row) bool {
	switch r {
	case settings.OwnNetworks.Row, settings.PeerNetworks.Row, settings.IKEProposals.Row, settings.ChildProposals.Row, settings.PFS.Row:
		return true
	}
	return false
}

// same reports whether two values mean the same. Networks do in any order.
func same(a, b settings.Shown) bool {
	if x, ok := a.Value.(ike.Selectors); ok {
		y, _ := b.Value.(ike.Selectors)
		return x.Reduce().String() == y.Reduce().String() || sorted(a.Plain) == sorted(b.Plain)
	}
	return a.Plain == b.Plain
}

func sorted(list string) string {
	words := strings.Split(list, ", ")
	slices.Sort(words)
	return strings.Join(words, ", ")
}

// says puts a change of a setting in words.
func says(r *settings.Row, x Change, a, b settings.Shown) string {
	switch {
	case x.Old == "":
		return fmt.Sprintf("%s: %s", x.What, x.New)
	case x.New == "":
		return fmt.Sprintf("%s is gone; it was %s", x.What, x.Old)
	case r == settings.PFS.Row && x.New == "none":
		return "PFS removed; it was " + x.Old
	case r == settings.PFS.Row && x.Old == "none":
		return "PFS added: " + x.New
	}
	out := fmt.Sprintf("%s: %s → %s", x.What, x.Old, x.New)
	if b.Default && !a.Default {
		out += " (not configured any more; daemon default)"
	}
	return out
}

// keys says which connections have another pre-shared key than before.
func (c *comparison) keys(name string, old, now *model.Gateway) {
	if !old.Given() || !now.Given() {
		return
	}
	keyOf := func(g *model.Gateway, k *model.Connection) *model.Key {
		return g.KeyFor(k, []ike.Identity{k.Local.ID.Value}, []ike.Identity{k.Remote.ID.Value})
	}
	byName(old.Connections, now.Connections, func(k *model.Connection) string { return k.Name },
		func(n string, a, b *model.Connection, had, has bool) {
			if !had || !has || a.Local.Method.Value != ike.PSK || b.Local.Method.Value != ike.PSK {
				return
			}
			x, y := keyOf(old, a), keyOf(now, b)
			if x != nil && y != nil && x.Secret.Fingerprint() != y.Secret.Fingerprint() {
				c.doubt(a.Doubts, b.Doubts, func() { // which of several keys it is may be what was not understood
					says := Change{
						Subject: name + "/" + n,
						What:    "pre-shared key",
						Old:     "a key",
						New:     "another key",
						Says:    "pre-shared key changed",
					}
					c.note(says, y.At, x.At)
				})
			}
		})
}

// hooks are the hooks at which a filter decides, in words.
var hooks = []struct {
	hook model.Hook
	name string
}{{model.Input, "input"}, {model.Forward, "forward"}, {model.Output, "output"}}

// filters compares, as exact sets of packets, which new connections the packet filters allow and which packets they translate.
func (c *comparison) filters(name string, old, now *model.Gateway) {
	if len(old.Chains) == 0 && len(now.Chains) == 0 {
		return
	}
	a, b := walk.NewPath(old, c.old.Ends(old), walk.Options{}).Filter(), walk.NewPath(now, c.now.Ends(now), walk.Options{}).Filter()
	accepts := func(v walk.Verdict) bool { return v.Verb == model.Accept }
	for _, h := range hooks {
		c.sets(name, h.name, "allows", h.hook, accepts, a, b)
	}
	c.sets(name, "source NAT", "translates", model.Postrouting, func(v walk.Verdict) bool { return v.Rewritten(packet.Src) }, a, b)
	c.sets(name, "destination NAT", "translates", model.Prerouting, func(v walk.Verdict) bool { return v.Rewritten(packet.Dst) }, a, b)
}

// done are the packets of new connections with which a filter does something at a hook: for certain, and possibly.
type done struct {
	all    packet.Set   // as far as its rules were understood
	sure   packet.Set   // for certain
	may    packet.Set   // those too that it may do it with
	doubts model.Doubts // why the last two are not the first
}

func doneBy(f *walk.Filter, h model.Hook, does func(walk.Verdict) bool) done {
	d := done{packet.None(), packet.None(), packet.None(), nil}
	forget := func(s packet.Set) packet.Set {
		return s.Free(packet.State, packet.Direction, packet.Mark, packet.ConnMark, packet.Translated)
	}
	for _, v := range f.Through(h, fresh()) {
		was := v.Was()
		if does(v) {
			d.all = d.all.Or(was)
			if v.Doubts.Certain() {
				d.sure = d.sure.Or(was)
			}
		}
		if does(v) || !v.Doubts.Certain() {
			d.may = d.may.Or(was)
		}
		d.doubts.Add(v.Doubts...)
	}
	d.all, d.sure, d.may = forget(d.all), forget(d.sure), forget(d.may)
	return d
}

// sets compares what two filters do, as sets of packets.
func (c *comparison) sets(name, what, verb string, h model.Hook, does func(walk.Verdict) bool, a, b *walk.Filter) {
	var was, is done
	var more, less packet.Set
	err := packet.Guard(func() {
		was, is = doneBy(a, h, does), doneBy(b, h, does)
		more, less = is.all.Minus(was.all), was.all.Minus(is.all)
		_ = more.Empty() || less.Empty()
	})
	if err != nil {
		c.note(Change{Subject: name, What: what, Says: what + " could not be compared", Unsure: err.Error()}, source.Pos{}, source.Pos{})
		return
	}
	doubts := was.doubts.And(is.doubts)
	tell := func(x Change, certain bool) {
		if !certain {
			x.Unsure = strings.Join(doubts.Told(), "; ")
		}
		c.note(x, source.Pos{}, source.Pos{})
	}
	if !more.Empty() {
		x := Change{Subject: name, What: what, New: more.String(), Says: fmt.Sprintf("%s now also %s %s", what, verb, shown(more))}
		tell(x, len(doubts) == 0 || more.Equal(is.sure.Minus(was.may)))
	}
	if !less.Empty() {
		x := Change{Subject: name, What: what, Old: less.String(), Says: fmt.Sprintf("%s no longer %s %s", what, verb, shown(less))}
		tell(x, len(doubts) == 0 || less.Equal(was.sure.Minus(is.may)))
	}
}

// shown writes a set of packets in a few words, with how much more there is of it.
func shown(s packet.Set) string {
	const most = 3
	parts := s.Parts()
	var words []string
	for _, p := range parts[:min(most, len(parts))] {
		words = append(words, p.String())
	}
	out := strings.Join(words, "; ")
	if n := len(parts) - most; n > 0 {
		out += fmt.Sprintf("; and %d more kinds", n)
	}
	return out
}

// fresh are the packets of new connections, at any interface.
func fresh() walk.Flow {
	return walk.Start(walk.Plain(packet.All()).With(packet.State, packet.OneOf(packet.New)))
}

// network compares addresses and routes.
func (c *comparison) network(name string, old, now *model.Gateway) {
	byName(addresses(old), addresses(now), func(a address) string { return a.text }, func(text string, a, b address, had, has bool) {
		switch {
		case !had:
			c.note(Change{Subject: name, What: "address", New: text, Says: "address added: " + text}, b.at, source.Pos{})
		case !has:
			c.note(Change{Subject: name, What: "address", Old: text, Says: "address removed: " + text}, source.Pos{}, a.at)
		}
	})
	byName(old.Routes, now.Routes, routeText, func(text string, a, b *model.Route, had, has bool) {
		switch {
		case !had:
			c.note(Change{Subject: name, What: "route", New: text, Says: "route added: " + text}, b.At, source.Pos{})
		case !has:
			c.note(Change{Subject: name, What: "route", Old: text, Says: "route removed: " + text}, source.Pos{}, a.At)
		}
	})
}

type address struct {
	text string
	at   source.Pos
}

func addresses(g *model.Gateway) (out []address) {
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			out = append(out, address{a.String() + " on " + i.Name, i.At})
		}
	}
	return out
}

func routeText(r *model.Route) string {
	out := r.To.String()
	if r.Kind != "unicast" && r.Kind != "" {
		out = r.Kind + " " + out
	}
	if r.Via.IsValid() {
		out += " via " + r.Via.String()
	}
	if r.Dev != "" {
		out += " out via " + r.Dev
	}
	if r.Table != "" && r.Table != "main" {
		out += " in table " + r.Table
	}
	return out
}
