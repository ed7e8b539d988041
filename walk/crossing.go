package walk

import (
	"slices"

	"toril/model"
	"toril/packet"
)

// Crossing is what becomes of the packets between two networks of a tunnel: of new connections that go into it, of those that
// come out of it, and of the answers to what passes.
type Crossing struct {
	Pair
	Into  []Outcome // new connections from behind the gateway
	From  []Outcome // new connections from the far end, once decrypted
	Sent  []Answer  // the answers, out of the tunnel, to connections that were let into it
	Given []Answer  // the answers, into the tunnel, to connections that were let out of it

	Doubts model.Doubts // about what brings packets from the far end: where that is not let in, From is empty
}

// Answer is what becomes of the answers to packets that passed.
type Answer struct {
	To   Outcome
	Gets []Outcome
}

// maxPairs bounds how many pairs of networks of one tunnel are asked about one by one; beyond it they are asked about together.
const maxPairs = 64

// Crossings follows the packets of a policy's tunnel, pair by pair of its networks.
func (p *Path) Crossings(pol *Policy) []Crossing {
	return pol.memo.crossings.get(func() []Crossing {
		pairs := p.Pairs(pol)
		if len(pairs) > maxPairs {
			pairs = []Pair{{"its networks", "the far networks", p.Traffic(pol)}}
		}
		out := make([]Crossing, 0, len(pairs))
		for _, pair := range pairs {
			out = append(out, p.crossing(pol, pair))
		}
		return out
	})
}

// Release lets go of what was worked out for a policy alone: in a hub that forwards between all its tunnels it is much.
func (pol *Policy) Release() {
	pol.memo.crossings.forget()
	pol.memo.domain.forget()
}

func (p *Path) crossing(pol *Policy, pair Pair) Crossing {
	c := Crossing{Pair: pair, Into: p.ForwardAll(p.entering(pol, pair.Out))}
	carrier, from := p.Inbound(pol, p.BesidesOwn(pair.In()))
	c.From = from
	for _, o := range carrier {
		c.Doubts.Add(o.Doubts...)
	}
	for _, o := range c.Into {
		if o.Fate == Encrypted && o.Policy == pol {
			c.Sent = append(c.Sent, Answer{o, p.answersIn(pol, o)})
		}
	}
	for _, o := range c.From {
		if o.Fate == Clear && o.Wrap == nil {
			c.Given = append(c.Given, Answer{o, p.answersOut(o)})
		}
	}
	return c
}

// BesidesOwn leaves out the gateway's own addresses as destinations, where others remain: whoever names a network does not mean the
// gateway in it.
func (p *Path) BesidesOwn(s packet.Set) packet.Set {
	rest := s
	for _, i := range p.Gateway.Interfaces {
		for _, a := range i.Addresses {
			rest = rest.Minus(packet.Range(packet.Dst, a.Addr(), a.Addr()))
		}
	}
	if rest.Empty() {
		return s
	}
	return rest
}

// Filtered reports whether rules stopped packets, and not routes or policies.
func (o Outcome) Filtered() bool {
	return o.Fate == Dropped && slices.Contains([]string{"prerouting", "input", "forward", "output", "postrouting"}, o.Where)
}

// Passes reports whether packets of a direction get through the gateway: into the tunnel of a policy, or out of it.
func (o Outcome) Passes() bool { return o.Fate == Encrypted || o.Fate == Clear || o.Fate == Delivered }

// answersTo are the answers to packets as they left, of those that are answered: of ICMP only echo requests.
func answersTo(s packet.Set) packet.Set {
	if s.Overlaps(icmp) {
		four, six := s.And(echo).Replace(packet.ICMP, packet.OneOf(0)), s.And(echo6).Replace(packet.ICMP, packet.OneOf(129<<8))
		s = packet.Union(s.Minus(icmp), four, six)
	}
	return s.Mirror(packet.State, packet.Direction, packet.Mark, packet.In, packet.Out, packet.PeerIn, packet.PeerOut).And(answering)
}

var (
	icmp      = packet.Where(packet.Proto, packet.WithTypes)
	echo      = packet.Where(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(8<<8))
	echo6     = packet.Where(packet.Proto, packet.OneOf(58)).With(packet.ICMP, packet.OneOf(128<<8))
	answering = packet.Where(packet.State, packet.OneOf(packet.Established)).
			With(packet.Direction, packet.OneOf(packet.Reply)).
			With(packet.Mark, packet.OneOf(0))
)

// Answers follows the answers to packets that passed: out of a policy's tunnel where they were encrypted, else from where they
// left.
func (p *Path) Answers(pol *Policy, o Outcome) []Outcome {
	if o.Fate == Encrypted {
		return p.answersIn(pol, o)
	}
	return p.answersOut(o)
}

// answersIn follows the answers, out of a policy's tunnel, to packets that went into it.
func (p *Path) answersIn(pol *Policy, o Outcome) []Outcome {
	if o.Changed() { // connection tracking undoes the translation: an example stands for all
		first, _ := o.Was().Witness()
		last, ok := o.Now.Witness()
		if !ok {
			return nil
		}
		return p.Reply(first, last, p.Entry(pol), pol.seenAs())
	}
	s := answersTo(o.Now)
	if s.Empty() {
		return nil
	}
	_, inner := p.InboundAs(pol, s)
	return inner
}

// answersOut follows the answers to packets that came out of a tunnel and left the gateway.
func (p *Path) answersOut(o Outcome) []Outcome {
	if o.Changed() {
		first, _ := o.Was().Witness()
		last, ok := o.Now.Witness()
		if !ok {
			return nil
		}
		return p.Reply(first, last, o.Out, noPeer)
	}
	s := answersTo(o.Now).And(bare)
	if o.Out != "" {
		s = s.With(packet.In, packet.Name(o.Out))
	}
	s = s.Minus(made)
	if s.Empty() {
		return nil
	}
	return p.Forward(Start(s))
}

// Decisive is the rule that decided about packets, or the policy of the chain that did; nil for neither.
func (o Outcome) Decisive() (*model.Rule, *model.Chain) {
	for _, s := range slices.Backward(o.Steps) {
		if s.Rule != nil || s.Chain != nil {
			return s.Rule, s.Chain
		}
	}
	return nil, nil
}
