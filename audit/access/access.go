// Package access holds the checks of what the packet filter lets through, in and out of tunnels and to the gateway.
package access

import (
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// of prepares the walk of a subject's child; nil where there is nothing to ask: no filter was given, or the child protects
// packets of the gateways themselves.
func of(p *audit.Pass, s *audit.Subject) (*walk.Path, *walk.Policy) {
	if s.Shunted() || len(s.Gateway.Chains) == 0 {
		return nil, nil
	}
	path := p.Walk(s.Gateway)
	pol := s.PolicyOf(path)
	if pol == nil || s.Child.Mode.Value != ike.Tunnel && len(pol.Wraps) == 0 {
		return path, nil
	}
	return path, pol
}

// filtered keeps the outcomes that rules decided: what the routes or policies stop is not theirs. Packets that the gateway
// takes itself tell nothing about the network behind it.
func filtered(os []walk.Outcome) (passed, stopped []walk.Outcome) {
	passes := func(o *walk.Outcome) bool { return o.Fate == walk.Clear || o.Fate == walk.Encrypted }
	n := 0
	for i := range os {
		if passes(&os[i]) {
			n++
		}
	}
	if n == len(os) { // mostly
		return slices.Clip(os), nil
	}
	passed = slices.Grow(passed, n)
	for i := range os {
		switch o := &os[i]; {
		case o.Filtered():
			stopped = append(stopped, *o)
		case passes(o):
			passed = append(passed, *o)
		}
	}
	return passed, stopped
}

// reasons are the doubts about some outcomes.
func reasons(os []walk.Outcome) model.Doubts {
	var out model.Doubts
	for _, o := range os {
		out.Add(o.Doubts...)
	}
	return out
}

// returning are packets that come out of a policy's tunnel and belong to what went in: of a state other than new.
func returning(path *walk.Path, pol *walk.Policy, s packet.Set, state uint64) packet.Set {
	return walk.Plain(s).Replace(packet.State, packet.OneOf(state)).Replace(packet.Direction, packet.OneOf(packet.Reply))
}
