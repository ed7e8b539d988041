package model

import (
	"slices"
	"strings"

	"toril/source"
)

// Topic is a kind of facts that files tell of a gateway. Several are joined by "|".
type Topic uint8

// The topics.
const (
	AboutIKE          Topic = 1 << iota // connections and children, and settings of the IKE daemon
	AboutKeys                           // pre-shared keys
	AboutCertificates                   // certificates, and what is trusted
	AboutFilter                         // chains, rules and sets of the packet filter
	AboutInterfaces                     // interfaces and their addresses
	AboutRoutes                         // routes, routing rules and routing protocols
	AboutStatus                         // what was seen while the gateway ran

	AboutNetwork    = AboutInterfaces | AboutRoutes
	AboutEverything = AboutIKE | AboutKeys | AboutCertificates | AboutFilter | AboutNetwork // but for the status
)

// topicNames are the topics in words, in their order.
var topicNames = [...]string{"IKE", "pre-shared keys", "certificates", "the packet filter", "interfaces", "routes", "status"}

// String names the topics: "IKE, pre-shared keys".
func (t Topic) String() string {
	var out []string
	for i, name := range topicNames {
		if t&(1<<i) != 0 {
			out = append(out, name)
		}
	}
	return strings.Join(out, ", ")
}

// Cause says what a doubt comes from.
type Cause uint8

// The causes.
const (
	NotRead   Cause = iota // a statement that was not understood
	NotGiven               // a file that was not given
	Undecided              // a condition that no file decides: a rate, a time of day
)

// String names the cause as reports do: "unread", "not-given", "undecided".
func (c Cause) String() string { return [...]string{"unread", "not-given", "undecided"}[c] }

// Doubt is a reason why an answer may be another than it seems. It is not changed once it was made: whatever rests on it shares it.
type Doubt struct {
	Cause   Cause
	Gateway string
	At      source.Pos // the statement; nowhere for what was not given
	Of      string     // what the statement belongs to: a connection's name, a chain's; "" for the gateway as a whole
	Why     string
	Topic   Topic // what kind of facts it may change
	Usually bool  // of Undecided: the condition holds for most packets, as a limit of a rate does
}

// Doubts are the reasons why something may be otherwise than it seems; none means that it is certain.
type Doubts []*Doubt

// maxDoubts bounds how many doubts one answer names. Of more than that, the first of each cause is still named.
const maxDoubts = 16

// Add adds doubts, each once.
func (d *Doubts) Add(more ...*Doubt) {
	for _, x := range more {
		alike := func(y *Doubt) bool { return y.Cause == x.Cause }
		if !slices.Contains(*d, x) && (len(*d) < maxDoubts || !slices.ContainsFunc(*d, alike)) {
			*d = append(slices.Clip(*d), x)
		}
	}
}

// From returns the same doubts about what stands at another place.
func (d Doubts) From(at source.Pos) (out Doubts) {
	for _, x := range d {
		y := *x
		y.At = at
		out = append(out, &y)
	}
	return out
}

// And returns both lists as one; neither is changed.
func (d Doubts) And(more Doubts) Doubts {
	if len(d) == 0 {
		return more
	}
	out := d
	out.Add(more...)
	return out
}

// Hold reports whether all of some doubts are among them.
func (d Doubts) Hold(some Doubts) bool {
	return !slices.ContainsFunc(some, func(x *Doubt) bool { return !slices.Contains(d, x) })
}

// Certain reports whether there is none.
func (d Doubts) Certain() bool { return len(d) == 0 }

// Lacks reports whether some of them are about what was not given.
func (d Doubts) Lacks() bool {
	return slices.ContainsFunc(d, func(x *Doubt) bool { return x.Cause == NotGiven })
}

// Unread reports whether some of them are about statements that were not understood.
func (d Doubts) Unread() bool {
	return slices.ContainsFunc(d, func(x *Doubt) bool { return x.Cause == NotRead })
}

// Says are the reasons in words, each once.
func (d Doubts) Says() []string {
	var out []string
	for _, x := range d {
		if !slices.Contains(out, x.Why) {
			out = append(out, x.Why)
		}
	}
	return out
}

// Told are the reasons in words, each with the place that it is about: "skerry/nftables.conf:12: \"wobble\" is not a known condition".
func (d Doubts) Told() []string {
	var out []string
	for _, x := range d {
		why := x.Why
		if !x.At.IsZero() {
			why = x.At.String() + ": " + why
		}
		if !slices.Contains(out, why) {
			out = append(out, why)
		}
	}
	return out
}

// open is a doubt about the facts of some topics.
type open struct {
	topic Topic
	doubt *Doubt
}

// Doubt notes that something about the gateway as a whole may be otherwise than its facts of some topics tell.
func (g *Gateway) Doubt(t Topic, d *Doubt) { g.open = append(g.open, open{t, d}) }

// FilterDoubts are what was not understood of the packet filter: of the whole, of its chains and rules.
func (g *Gateway) FilterDoubts() Doubts {
	out := g.Doubts(AboutFilter)
	for _, c := range g.Chains {
		out.Add(c.Doubts...)
		for _, r := range c.Rules {
			if !r.Certain() && r.Doubts.Unread() {
				out.Add(r.Doubts...)
			}
		}
	}
	return out
}

// UnreadNetwork are what was not understood of addresses and routes: of all of them, of interfaces, and of single routes.
func (g *Gateway) UnreadNetwork() Doubts {
	out := g.Doubts(AboutNetwork)
	for _, i := range g.Interfaces {
		out.Add(i.Doubts...)
	}
	for _, r := range g.Routes {
		out.Add(r.Doubts...)
	}
	return out
}

// Doubts are the reasons why the facts of any of some topics may be others, whatever they are about.
func (g *Gateway) Doubts(t Topic) (out Doubts) {
	for _, o := range g.open {
		if o.topic&t != 0 {
			out.Add(o.doubt)
		}
	}
	return out
}
