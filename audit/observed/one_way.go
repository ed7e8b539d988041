package observed

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/observe"
	"toril/pair"
	"toril/source"
	"toril/walk"
)

// OneWay reports where the counters of a child's SA stay at zero in one direction.
var OneWay = &audit.Check{
	Name:     "observed/one-way",
	Title:    "Packets pass in one direction only",
	Severity: audit.High,
	Symptom:  true,
	Why:      "The tunnel is up and of no use: nothing that needs a reply works.",
	Fix:      "Follow the packets at the end that is silent: its route, its NAT and its filter, then ESP on the way.",
	PartOf: parts(audit.SameTunnel, "nat/rewritten", "access/blocked", "access/answers-stopped", "access/ike-closed", "route/no-route-in",
		"route/answers-stray", "route/no-return", "route/blackhole-wins", "ends/data-differs", "observed/one-way", "nat/outer-rewritten",
		"nat/no-encapsulation", "route/interface-address", "access/one-way"),
	Doc: audit.Doc{
		What: "The counters of every child SA that was up: bytes in one direction, and none in the other. The status of the " +
			"far end tells " +
			"whether packets arrive there; the rules, routes and translations of the end that is silent tell why, as far as " +
			"its files do.",
		Harm:    "Both ends show the tunnel as established, so the search starts at the wrong end.",
		Write:   "At the silent end: a route to the remote networks, no translation of them, and a rule that accepts them.",
		Sources: []string{"RFC 4301 section 5"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || s.Shunted() {
			return
		}
		c := e.Child(s.Child)
		if c == nil || c.Up() == nil {
			return
		}
		sa := c.Up()
		if !sa.In.Told || !sa.Out.Told || (sa.In.Bytes == 0) == (sa.Out.Bytes == 0) {
			return
		}
		f := p.On(s, sa.At, false)
		far, theirs, farGiven := farSeen(s)
		if farGiven && theirs.Up() == nil {
			farGiven = false
		}
		meaning, at := "", source.Pos{}
		if sa.In.Bytes == 0 {
			f.Message = fmt.Sprintf("%s sent %d bytes and received none", s.Child.Name, sa.Out.Bytes)
			meaning, at = silentFar(p, s, far, theirs, farGiven)
		} else {
			f.Message = fmt.Sprintf("%s received %d bytes and sent none", s.Child.Name, sa.In.Bytes)
			meaning, at = silent(p, s.Tunnel, s.End, s.Child)
			if meaning == "" {
				meaning = "nothing in the files of " + s.Gateway.Name + " stops its replies: look at the hosts behind it, and at " +
					"their route back"
			}
		}
		f.Message += ": " + meaning
		if !at.IsZero() {
			f.Also = []audit.Evidence{{Pos: at, Note: "what stops them"}}
			f.Blame(at)
		}
		p.Report(f)
	},
}

// silentFar says why nothing comes from the far end.
func silentFar(p *audit.Pass, s *audit.Subject, far pair.End, theirs *observe.Child, seen bool) (string, source.Pos) {
	if path := p.Walk(s.Gateway); path != nil {
		if pol := s.PolicyOf(path); pol != nil {
			if o := all(path.Arrive(pol), walk.Dropped); o != nil {
				return s.Gateway.Name + " drops the ESP packets of its peer", o.Decided(s.Child.At)
			}
		}
	}
	if far.Gateway == nil {
		return "its status does not tell why, and the far end was not given", source.Pos{}
	}
	why, at := "", source.Pos{}
	for _, k := range s.Tunnel.Counterparts(s.Child) {
		if why, at = silent(p, s.Tunnel, far, k); why != "" {
			break
		}
	}
	switch {
	case seen && theirs.Up().In.Told && theirs.Up().In.Bytes == 0:
		return fmt.Sprintf(
			"%s received nothing either: ESP does not arrive there, so look for what drops it on the way",
			far.Gateway.Name,
		), at
	case seen && theirs.Up().Out.Told && theirs.Up().Out.Bytes > 0:
		return fmt.Sprintf(
			"%s sent %d bytes: they are lost on the way back, or by %s's own filter",
			far.Gateway.Name,
			theirs.Up().Out.Bytes,
			s.Gateway.Name,
		), at
	case why != "":
		return why, at
	case seen:
		return fmt.Sprintf(
			"%s received them and sent nothing, and nothing in its files stops the replies: look at the hosts behind it",
			far.Gateway.Name,
		), at
	}
	return fmt.Sprintf(
		"nothing in the files of %s stops its replies; its status would tell whether the packets arrive",
		far.Gateway.Name,
	), at
}

// silent says why nothing of a child leaves a gateway encrypted, by its files; "" where they do not.
func silent(p *audit.Pass, t *pair.Tunnel, e pair.End, k *model.Child) (string, source.Pos) {
	path := p.Walk(e.Gateway)
	pol := path.Policy(k, t.Own(e), t.Peer(e))
	if pol == nil {
		return "", source.Pos{}
	}
	if o := all(path.Outer(pol), walk.Dropped); o != nil {
		return e.Gateway.Name + " drops its own ESP packets", o.Decided(k.At)
	}
	var into, from []walk.Outcome
	for _, c := range path.Crossings(pol) {
		into, from = append(into, c.Into...), append(from, c.From...)
	}
	if o := all(from, walk.Dropped); o != nil {
		return e.Gateway.Name + " drops what comes out of the tunnel, so nothing replies", o.Decided(k.At)
	}
	if !path.Known() {
		return "", source.Pos{}
	}
	if o := all(into, walk.Clear); o != nil {
		return "packets for it leave " + e.Gateway.Name + " in the clear", o.Decided(k.At)
	}
	if o := all(into, walk.Dropped); o != nil {
		return e.Gateway.Name + " drops packets for it", o.Decided(k.At)
	}
	return "", source.Pos{}
}

// all returns an outcome where all are of one fate; nil where they are not, or there is none.
func all(os []walk.Outcome, fate walk.Fate) *walk.Outcome {
	if len(os) == 0 {
		return nil
	}
	for i := range os {
		if os[i].Fate != fate {
			return nil
		}
	}
	return &os[0]
}
