package model

import (
	"net/netip"
	"slices"

	"toril/packet"
	"toril/source"
)

// Hook is where in a packet's way a base chain stands.
type Hook uint8

// The hooks, in the order in which a forwarded packet meets them.
const (
	NoHook Hook = iota // a chain that is only jumped to
	Ingress
	Prerouting
	Input
	Forward
	Output
	Postrouting
	Egress
)

// String returns the hook's name.
func (h Hook) String() string {
	return [...]string{"none", "ingress", "prerouting", "input", "forward", "output", "postrouting", "egress"}[h]
}

// ChainKind is what a base chain is for.
type ChainKind uint8

// The kinds.
const (
	FilterChain ChainKind = iota
	NATChain              // sees the first packet of a connection only; the others follow what it decided
	RouteChain            // like a filter in output, but a changed packet is routed again
)

// Chain is a list of rules.
type Chain struct {
	Family   string // "ip", "ip6", "inet", "arp", "bridge", "netdev"
	Table    string
	Name     string
	At       source.Pos
	Kind     ChainKind
	Hook     Hook
	Priority int
	Policy   Setting[Verb] // Accept or Drop
	Rules    []*Rule
	Doubts   Doubts // what was not understood about the chain itself: it may do anything with its packets
	Opened   bool   // traffic of children that open the packet filter passes it
}

// ID returns the name by which a chain is unique on its gateway: "inet filter forward".
func (c *Chain) ID() string { return c.Family + " " + c.Table + " " + c.Name }

// Verb is what a rule does with a packet.
type Verb uint8

// The verbs.
const (
	Continue Verb = iota // nothing: the next rule is asked
	Accept               // ends this base chain
	Drop                 // ends all
	Reject               // ends all, with an answer
	Jump                 // to another chain, and back
	Goto                 // to another chain, and from there back to where this one was jumped from
	Return               // to where this chain was jumped from; in a base chain: its policy
	SourceNAT
	DestinationNAT
	Masquerade    // source NAT to an address of the interface that the packet leaves by
	Redirect      // destination NAT to an address of the interface that it came in by
	NoTrack       // the packet is kept out of connection tracking
	Queue         // a program decides
	UnknownAction // not understood: any of the above
)

var verbNames = [...]string{
	"continue",
	"accept",
	"drop",
	"reject",
	"jump",
	"goto",
	"return",
	"source NAT",
	"destination NAT",
	"masquerade",
	"redirect",
	"notrack",
	"queue",
	"unknown",
}

// String returns the verb's name.
func (v Verb) String() string { return verbNames[v] }

// Translates reports whether the verb rewrites addresses.
func (v Verb) Translates() bool { return v >= SourceNAT && v <= Redirect }

// Final reports whether no later rule of the chain sees the packet.
func (v Verb) Final() bool {
	switch v {
	case Continue, Jump, NoTrack, UnknownAction:
		return false
	}
	return true
}

// Rule is one rule; where a saved rule has several outcomes (a verdict map), it becomes several, all at the same line.
type Rule struct {
	At      source.Pos
	When    packet.Set // every packet that it may concern
	Doubts  Doubts     // conditions outside the model, or not understood: it concerns some of When
	Log     bool
	Counter bool
	Verb    Verb
	Target  string       // Jump, Goto: the ID of the chain
	To      *Translation // not changed once it was read: rules share it; nil where the rule rewrites nothing
	SetMark *MarkChange
	Bits    []MarkBits // conditions on single bits of marks, which When does not say; a doubt says SingleBits for them
	MSS     int        // what the rule makes of the MSS of TCP (RFC 9293, section 3.7.1), in bytes; PathMSS: as the path takes; 0: it does not
	Packets uint64     // as counted when it was saved
	Comment string
	Of      *Chain // the chain that it stands in
	Index   int    // its place there, from 0
}

// Room is where a reader makes rules, many at a time: those of a file stay as long as each other.
type Room []Rule

// Next returns a new rule.
func (r *Room) Next() *Rule {
	if len(*r) == cap(*r) {
		*r = make(Room, 0, min(max(2*cap(*r), 8), 256))
	}
	*r = (*r)[:len(*r)+1]
	return &(*r)[len(*r)-1]
}

// PathMSS is an MSS that follows the path's MTU.
const PathMSS = -1

// Certain reports whether the rule concerns all of When.
func (r *Rule) Certain() bool { return len(r.Doubts) == 0 }

// Usually reports whether a rule that is not certain concerns most packets of When all the same: all that leaves it open are conditions
// that usually hold.
func (r *Rule) Usually() bool {
	return !slices.ContainsFunc(r.Doubts, func(d *Doubt) bool { return !d.Usually })
}

// Acts reports whether the rule may change what becomes of a packet. One that only logs and counts does not, whatever its conditions;
// one of which some was not understood may.
func (r *Rule) Acts() bool { return r.Verb != Continue || r.SetMark != nil || r.Doubts.Unread() }

// Writes is what the rule writes into a packet; the zero Translation where it writes nothing, or it was not read what.
func (r *Rule) Writes() Translation {
	if r.To == nil {
		return Translation{}
	}
	return *r.To
}

// Translation is what a NAT rule writes into a packet.
type Translation struct {
	Family packet.Family
	Addrs  packet.Values // empty: the address stays
	Ports  packet.Values // empty: the port stays where it can
	From   netip.Prefix  // of a one-to-one translation between networks, of Onto's size; invalid where the rule names none
	Onto   netip.Prefix  // valid where the host's part of the address stays
	Text   string
}

// SingleBits is why a rule with Bits may concern some of its packets alone, where their mark is not known.
const SingleBits = "single bits of the mark"

// MarkBits is a condition on the mark of a packet, or of its connection: mark&Mask == Value, or not.
type MarkBits struct {
	Value, Mask uint32
	Not, Conn   bool
}

// Of reports whether a mark meets the condition.
func (m MarkBits) Of(mark uint32) bool { return (mark&m.Mask == m.Value) != m.Not }

// MarkChange is what a rule writes into a packet's mark, or into that of its connection: mark = mark&^Mask | Value.
type MarkChange struct {
	Value, Mask uint32
	Conn        bool // the mark of the connection is written
	Copy        bool // the other of the two marks is the value
	Any         bool // the value is computed while the gateway runs
}
