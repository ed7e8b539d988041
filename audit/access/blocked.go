package access

import (
	"fmt"

	"toril/audit"
	"toril/packet"
	"toril/walk"
)

// Blocked speaks where the filter lets nothing of a tunnel through: at all, between two of its networks, or in a direction in
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
			wholeInto, wholeFrom = wholeInto.with(into[i]), wholeFrom.with(from[i])
		}
		switch {
		case !wholeInto.passes() && !wholeFrom.passes():
			if wholeInto.blocked() {
				blocked(p, s, 0, "new connections into %s are all dropped by the filter, and none come out of it", wholeInto)
			} else if wholeFrom.blocked() {
				blocked(p, s, 0, "new connections out of %s are all dropped by the filter", wholeFrom)
			}
			return
		case !wholeFrom.passes() && wholeFrom.blocked() && farOpens(p, s):
			blocked(p, s, 2, "new connections out of %s are all dropped by the filter", wholeFrom)
			return
		case !wholeInto.passes() && wholeInto.blocked() && farAccepts(p, s):
			blocked(p, s, 2, "new connections into %s are all dropped by the filter", wholeInto)
			return
		}
		for i, c := range all {
			if into[i].passes() || from[i].passes() || !into[i].blocked() && !from[i].blocked() {
				continue
			}
			one := into[i]
			if !one.blocked() {
				one = from[i]
			}
			blocked(
				p,
				s,
				1,
				"nothing passes between "+c.Local+" and "+c.Remote+" of %s, while its other networks pass: no rule accepts it",
				one,
			)
			return
		}
	},
}

// passage is what became of packets in one direction.
type passage struct{ passed, stopped []walk.Outcome }

func passageOf(os []walk.Outcome) passage {
	passed, stopped := filtered(os)
	return passage{passed, stopped}
}

func (a passage) with(b passage) passage {
	return passage{append(a.passed, b.passed...), append(a.stopped, b.stopped...)}
}

func (a passage) passes() bool  { return len(a.passed) > 0 }
func (a passage) blocked() bool { return len(a.stopped) > 0 }

func blocked(p *audit.Pass, s *audit.Subject, lower int, what string, by passage) {
	o := by.stopped[0]
	f := p.On(s, o.Decided(s.Child.At), false)
	f.Lower(lower)
	w, _ := o.Was().Witness()
	f.Example = w.String()
	f.Message = fmt.Sprintf(what, s.Child.Name)
	f.Undecided(reasons(by.stopped))
	stopped := packet.None()
	for _, o := range by.stopped {
		stopped = stopped.Or(o.Was())
	}
	f.Concerns(stopped)
	p.Report(f)
}

// farOpens reports whether the far end lets new connections into the tunnel; true where it was not given.
func farOpens(p *audit.Pass, s *audit.Subject) bool {
	return far(p, s, func(c walk.Crossing) []walk.Outcome { return c.Into })
}

// farAccepts reports whether the far end lets new connections out of the tunnel; false where it was not given.
func farAccepts(p *audit.Pass, s *audit.Subject) bool {
	_, given := s.Far()
	return given && far(p, s, func(c walk.Crossing) []walk.Outcome { return c.From })
}

func far(p *audit.Pass, s *audit.Subject, which func(walk.Crossing) []walk.Outcome) bool {
	end, given := s.Far()
	if !given || len(end.Gateway.Chains) == 0 {
		return true
	}
	path := p.Walk(end.Gateway)
	for _, k := range s.Tunnel.Counterparts(s.Child) {
		pol := path.Policy(k, s.Tunnel.Own(end), s.Tunnel.Peer(end))
		if pol == nil {
			continue
		}
		for _, c := range path.Crossings(pol) {
			if passed, _ := filtered(which(c)); len(passed) > 0 {
				return true
			}
		}
	}
	return false
}
