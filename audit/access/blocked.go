package access

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// Blocked reports where the filter lets nothing of a tunnel through: at all, between two of its networks, or in a direction in
// which the far end opens connections.
var Blocked = &audit.Check{
	Name:     "access/blocked",
	Title:    "The filter blocks tunnel traffic",
	Severity: audit.High,
	Why:      "The tunnel is up but no packet passes, or connections can be opened from one side only.",
	Fix: "Accept what the tunnel is for in the forward chain: each pair of networks, and each direction in which connections " +
		"are opened.",
	PartOf: []audit.Part{
		{Of: "access/blocked", By: audit.SameLine},
		{Of: "ends/not-mirrored", By: audit.SameExcess},
	},
	Doc: audit.Doc{
		What: "For each pair of networks of every child, new connections into the tunnel and out of it are sent through the whole " +
			"filter. The check reports where nothing passes either way: between all networks, or " +
			"between two of them while others pass; and where one direction is blocked in which the far end opens or accepts " +
			"connections. Packets to the gateway itself do not count. " +
			"Tunnels whose intent is declared are left to access/short-of-intent.",
		Harm: "The tunnel shows as established, so the search starts at the far end; it is this gateway's filter that drops every " +
			"packet.",
		Write:   "ip saddr 10.1.0.0/16 ip daddr 10.2.0.0/16 accept, and the same with source and destination swapped.",
		Sources: []string{"nft(8)", "RFC 4301 section 5"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		if _, declared := s.Tunnel.Intended(s.End); declared {
			return // access/short-of-intent asks about what is meant
		}
		all := path.Crossings(pol)
		into, from := make([]passage, len(all)), make([]passage, len(all))
		var wholeInto, wholeFrom passage
		for i, c := range all {
			into[i], from[i] = passageOf(c.Into), passageOf(c.From)
			into[i].doubts = into[i].doubts.And(path.TrafficDoubts(pol))
			from[i].doubts = from[i].doubts.And(c.Doubts)
			wholeInto, wholeFrom = wholeInto.with(into[i]), wholeFrom.with(from[i])
		}
		switch {
		case !wholeInto.passes() && !wholeFrom.passes():
			if wholeInto.blocked() {
				blocked(p, s, 0, "new connections into %s are all dropped by the filter, and none come out of it", wholeInto, wholeFrom)
			} else if wholeFrom.blocked() {
				blocked(p, s, 0, "new connections out of %s are all dropped by the filter", wholeFrom, wholeInto)
			}
			return
		case !wholeFrom.passes() && wholeFrom.blocked():
			if opens, unsure := farOpens(p, s); opens {
				blocked(p, s, 2, "new connections out of %s are all dropped by the filter", wholeFrom.because(unsure))
				return
			}
		}
		if !wholeInto.passes() && wholeInto.blocked() {
			if accepts, unsure := farAccepts(p, s); accepts {
				blocked(p, s, 2, "new connections into %s are all dropped by the filter", wholeInto.because(unsure))
				return
			}
		}
		for i, c := range all {
			if into[i].passes() || from[i].passes() || !into[i].blocked() && !from[i].blocked() {
				continue
			}
			one, other := into[i], from[i]
			if !one.blocked() {
				one, other = other, one
			}
			blocked(
				p,
				s,
				1,
				"nothing passes between "+c.Local+" and "+c.Remote+" of %s, while its other networks pass: no rule accepts it",
				one, other,
			)
			return
		}
	},
}

// passage is what became of packets in one direction.
type passage struct {
	passed, stopped []walk.Outcome
	doubts          model.Doubts   // about all of them
	reasons         []audit.Reason // and others, why it may matter less
}

func passageOf(os []walk.Outcome) passage {
	passed, stopped := filtered(os)
	return passage{passed, stopped, reasons(os), nil}
}

func (a passage) with(b passage) passage {
	return passage{append(a.passed, b.passed...), append(a.stopped, b.stopped...), a.doubts.And(b.doubts), nil}
}

// because returns the passage with more reasons why what is said of it is not certain.
func (a passage) because(why []audit.Reason) passage {
	a.reasons = why
	return a
}

func (a passage) passes() bool  { return len(a.passed) > 0 }
func (a passage) blocked() bool { return len(a.stopped) > 0 }

func blocked(p *audit.Pass, s *audit.Subject, lower int, what string, by passage, also ...passage) {
	o := by.stopped[0]
	f := p.On(s, o.Decided(s.Child.At), false)
	f.Lower(lower)
	w, _ := o.Was().Witness()
	f.Example = w.String()
	f.Message = fmt.Sprintf(what, s.Child.Name)
	f.Rests(by.doubts)
	f.Reasons = append(f.Reasons, by.reasons...)
	for _, a := range also {
		f.Rests(a.doubts)
	}
	stopped := packet.None()
	for _, o := range by.stopped {
		stopped = stopped.Or(o.Was())
	}
	f.Concerns(stopped)
	p.Report(f)
}

// farOpens reports whether the far end lets new connections into the tunnel; true where it was not given. unsure is why that is not
// certain.
func farOpens(p *audit.Pass, s *audit.Subject) (opens bool, unsure []audit.Reason) {
	return far(p, s, func(c walk.Crossing) []walk.Outcome { return c.Into })
}

// farAccepts reports whether the far end lets new connections out of the tunnel; false where it was not given.
func farAccepts(p *audit.Pass, s *audit.Subject) (accepts bool, unsure []audit.Reason) {
	if _, given := s.Far(); !given {
		return false, nil
	}
	return far(p, s, func(c walk.Crossing) []walk.Outcome { return c.From })
}

func far(p *audit.Pass, s *audit.Subject, which func(walk.Crossing) []walk.Outcome) (passes bool, unsure []audit.Reason) {
	end, given := s.Far()
	if !given {
		return true, p.Elsewhere(s.Gateway)
	}
	var f audit.Finding
	if len(end.Gateway.Chains) == 0 {
		f.Rests(end.Gateway.FilterDoubts())
		return true, f.Reasons
	}
	path := p.Walk(end.Gateway)
	for _, k := range s.Tunnel.Sharing(s.Child) {
		pol := path.Policy(k, s.Tunnel.Own(end), s.Tunnel.Peer(end))
		if pol == nil {
			continue
		}
		for _, c := range path.Crossings(pol) {
			passed, _ := filtered(which(c))
			if len(passed) > 0 {
				f.Rests(reasons(which(c)), c.Doubts)
				return true, f.Reasons
			}
		}
	}
	return false, nil
}
