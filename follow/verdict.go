package follow

import (
	"fmt"
	"slices"

	"toril/model"
	"toril/packet"
	"toril/pair"
	"toril/source"
	"toril/walk"
)

// Verdict says in one sentence how a part ends, possibly only where it rests on what was not understood; ok means that it arrives
// protected, or is delivered.
func Verdict(t *Trip, p *Part, place func(source.Pos) string) (sum string, ok bool) {
	sum, ok = verdict(t, p, place)
	if p.Doubts.Unread() && p.Fate != walk.Unknown {
		sum = "possibly " + sum
	}
	return sum, ok
}

func verdict(t *Trip, p *Part, place func(source.Pos) string) (sum string, ok bool) {
	switch p.Fate {
	case walk.Dropped:
		return fmt.Sprintf("dropped at %s: %s", t.Gateway.Name, cause(p.Outcome, place)), false
	case walk.Unknown:
		return fmt.Sprintf("not known: at %s it depends on something that is not in the files", t.Gateway.Name), false
	case walk.Delivered:
		return fmt.Sprintf("delivered to %s itself; %s", t.Gateway.Name, answered(p)), p.Stray == ""
	case walk.Clear:
		if t.Out != nil {
			return fmt.Sprintf("delivered by %s%s%s; %s", t.Gateway.Name, By(p.Out), p.Became(), answered(p)), p.Stray == ""
		}
		return fmt.Sprintf("leaves %s in the clear%s%s; %s", t.Gateway.Name, By(p.Out), p.Became(), answered(p)), false
	}
	sum = fmt.Sprintf("encrypted by %s/%s", t.Gateway.Name, p.Policy.Name)
	sum += p.Became()
	c := p.Crossing
	switch {
	case c.Lost != "":
		return sum + "; " + c.Lost, false
	case c.Trip == nil:
		return sum + "; the far gateway was not given", true
	case len(c.Trip.Parts) == 0:
		return sum + "; nothing arrives at " + c.Trip.Gateway.Name, false
	}
	ok = true
	var ends []string
	for _, q := range c.Trip.Parts {
		s, good := Verdict(c.Trip, q, place)
		ends = append(ends, s)
		ok = ok && good
	}
	if len(ends) > 1 {
		return fmt.Sprintf("%s; at %s the paths diverge", sum, c.Trip.Gateway.Name), ok
	}
	return sum + "; " + ends[0], ok && len(c.Notes) == 0
}

// By names the interface that packets leave by: " via wan"; "" for none.
func By(dev string) string {
	if dev == "" {
		return ""
	}
	return " via " + dev
}

// Became tells the packet's new face where a translation gave it one.
func (p *Part) Became() string {
	if p.First.Src == p.Last.Src && p.First.Dst == p.Last.Dst && p.First.Dport == p.Last.Dport {
		return ""
	}
	return " as " + p.Last.String()
}

func answered(p *Part) string {
	switch {
	case p.Stray != "":
		return p.Stray
	case len(p.Answer) == 0:
		return "nothing replies"
	case len(p.Answer[len(p.Answer)-1].Parts) != 1:
		return "the reply's path is not certain"
	}
	return "the reply returns"
}

// cause says what stopped packets.
func cause(o walk.Outcome, place func(source.Pos) string) string {
	if len(o.Steps) == 0 {
		return "in " + o.Where
	}
	s := o.Steps[len(o.Steps)-1]
	what := s.What
	if s.Chain != nil {
		what = fmt.Sprintf("%s in chain %s", what, s.Chain.Name)
	}
	if at := s.Line(); !at.IsZero() {
		what += ", " + place(at)
	}
	return what
}

// Decisive is the last statement on a part's way that did something about it, at this gateway or where it is lost; nowhere for none.
func (p *Part) Decisive() source.Pos {
	steps := p.Steps
	if p.Crossing != nil && p.Crossing.Where != nil {
		steps = p.Crossing.Where.Steps
	}
	for _, s := range slices.Backward(steps) {
		if at := s.Line(); !at.IsZero() {
			return at
		}
	}
	return source.Pos{}
}

// Way is what becomes of some packets of a child on their way from behind its gateway.
type Way struct {
	Gateway, Connection, Child string
	Packets                    string
	Says                       string
	Arrives                    bool // it arrives protected, or is delivered
	Decided                    source.Pos
}

// Ways says for every child of a gateway what becomes of the packets that it protects, at most so many of them a child; the gateway's own
// packets are left out. left is how many parts there are beside.
func Ways(e *pair.Whole, g *model.Gateway, most int) (ways []Way, left int) {
	path := walk.NewPath(g, e.Ends(g), walk.Options{})
	for _, t := range e.TunnelsOf(g) {
		for _, end := range t.Ends {
			if end.Gateway != g {
				continue
			}
			for _, k := range end.Connection.Children {
				pol := path.Policy(k, t.Own(end), t.Peer(end))
				if k.Shunts() || pol == nil {
					continue
				}
				one := Way{Gateway: g.Name, Connection: end.Connection.Name, Child: k.Name}
				trips, err := Ask(e, Question{Gateway: g, Packets: path.Traffic(pol)})
				if err != nil {
					one.Packets, one.Says = path.Traffic(pol).String(), "not decided: "+err.Error()
					ways = append(ways, one)
					continue
				}
				n := 0
				for _, trip := range trips {
					for _, p := range trip.Parts {
						if trip.Own {
							continue
						}
						if n++; n > most {
							left++
							continue
						}
						one.Packets = p.Came.Free(packet.State, packet.Direction, packet.Mark, packet.ConnMark, packet.PeerIn).String()
						one.Says, one.Arrives = Verdict(trip, p, e.Place)
						one.Decided = p.Decisive()
						ways = append(ways, one)
					}
				}
			}
		}
	}
	return ways, left
}
