package ends

import (
	"fmt"

	"toril/audit"
	"toril/negotiate"
	"toril/pair"
)

// NoCounterpart reports where a far gateway that was given has nothing that a connection or a child could come up with.
var NoCounterpart = &audit.Check{
	Name:     "ends/no-counterpart",
	Title:    "The far gateway has no counterpart",
	Severity: audit.High,
	Why: "The far gateway has no such connection: it rejects it, or responds with another one, and the networks behind it stay " +
		"unreachable.",
	Fix: "Add the counterpart on the far gateway, local and remote swapped, or remove what is left over here.",
	Doc: audit.Doc{
		What: "Connections to a gateway among those given that has no connection for them, or one that its daemon never loads (no " +
			"auto= line, or auto=ignore). " +
			"Where another tunnel between the two gateways carries the same networks, redundancy is lost and nothing else.",
		Harm:    "A network was added on one gateway only: the tunnel is up, the old networks work, and the new one does not.",
		Write:   "On the far gateway a connection with local and remote swapped; in ipsec.conf with auto=route.",
		Sources: []string{"RFC 7296 section 2.9"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		if len(t.Ends) == 1 && t.Toward != nil {
			lonely(p, t, p.Attempts(t))
		}
	},
}

// lonely reports a connection that the far gateway has no counterpart of.
func lonely(p *audit.Pass, t *pair.Tunnel, attempts []negotiate.Attempt) {
	e := t.Ends[0]
	if e.Connection.Unusable != nil {
		return // ike/refused says it
	}
	f := p.On(&audit.Subject{End: e, Tunnel: t}, e.Connection.At, false)
	switch {
	case t.Unloaded != nil:
		f.Message = fmt.Sprintf(
			"%s has the counterpart of %s, %s, and never loads it: auto= is not set, or set to ignore",
			t.Toward.Name,
			e.Name(),
			t.Unloaded.Name,
		)
		f.Fix = fmt.Sprintf("On %s set auto=route or auto=start in %s.", t.Toward.Name, t.Unloaded.Name)
		f.Also = []audit.Evidence{{Pos: t.Unloaded.At, Note: "the connection that is not loaded"}}
	default:
		f.Message = fmt.Sprintf("%s is the peer of %s, and has no connection for it", t.Toward.Name, e.Name())
	}
	for _, a := range attempts {
		f.Rests(a.Doubts)
		switch {
		case a.Failure != nil:
			f.Message += ": " + a.Failure.Why
		case a.Outcome == negotiate.Agrees:
			f.Lower(2)
			f.Message = fmt.Sprintf(
				"%s responds to %s with its connection %s, which is the counterpart of another",
				t.Toward.Name,
				e.Name(),
				a.Responder.Connection.Name,
			)
		default:
			for _, c := range a.Children {
				if c.Failure != nil {
					f.Message += fmt.Sprintf(
						"; its connection %s responds, and the child fails: %s",
						a.Responder.Connection.Name,
						c.Failure.Why,
					)
					break
				}
			}
		}
	}
	if p.Severity(f) > audit.Medium && spare(p.Estate, t) {
		f.Lower(1)
		f.Message += "; another tunnel between the two carries the same networks, so only the redundancy is lost"
	}
	p.Report(f)
}

// spare reports whether another tunnel between the same gateways, with both its ends, carries what a tunnel is for.
func spare(e *pair.Estate, t *pair.Tunnel) bool {
	end := t.Ends[0]
	for _, k := range end.Connection.Children {
		covered := false
		for _, o := range e.MatchesOf(end.Gateway) {
			if len(o.Sides) < 2 || o.Between() != t.Between() {
				continue
			}
			for _, x := range o.Sides {
				if x.Gateway.Number != end.Gateway.Number {
					continue
				}
				for _, c := range x.Connection.Children {
					covered = covered || c.Local.String() == k.Local.Value.String() && c.Remote.String() == k.Remote.Value.String()
				}
			}
		}
		if !covered {
			return false
		}
	}
	return len(end.Connection.Children) > 0
}
