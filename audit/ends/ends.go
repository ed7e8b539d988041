// Package ends holds the checks that compare both ends of a tunnel. What they say is predicted by package agree.
package ends

import (
	"slices"
	"strings"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
	"toril/source"
)

// failing makes a Tunnel function that reports where an attempt fails for one of some topics: high where nothing else brings the tunnel
// up, a step less where the other end's attempt does.
func failing(topics ...negotiate.Topic) func(*audit.Pass, *pair.Tunnel) {
	return func(p *audit.Pass, t *pair.Tunnel) {
		attempts := p.Attempts(t)
		var hits []failure
		works := false // some attempt that brings something up does not fail for that
		for _, a := range attempts {
			found := false
			for _, f := range failuresOf(a) {
				if !slices.Contains(topics, f.Topic) ||
					f.Topic == negotiate.Refused && a.Outcome == negotiate.NoStart { // ike/refused says it
					continue
				}
				found = true
				if !slices.ContainsFunc(hits, func(o failure) bool { return sameLines(o.Failure, f.Failure) }) {
					hits = append(hits, f)
				}
			}
			works = works || !found && (a.Outcome == negotiate.Agrees || a.Outcome == negotiate.Partly)
		}
		for _, f := range hits {
			out := of(p, t, f.by, f.Failure)
			if f.child != nil && out.Gateway == f.by.Initiator.Gateway.Name && out.Connection == f.by.Initiator.Connection.Name {
				out.Child = f.child.Name
			} else if f.child != nil {
				for _, k := range t.Counterparts(f.child) {
					out.Child = k.Name
				}
			}
			if works {
				out.Lower(1)
				out.Message = "if " + f.by.Initiator.Gateway.Name + " initiates: " + out.Message
			}
			out.Rests(f.by.Doubts)
			p.Report(out)
		}
	}
}

// failure is why an attempt fails, or a child of it.
type failure struct {
	*negotiate.Failure
	by    negotiate.Attempt
	child *model.Child // the initiator's; nil where the IKE SA fails
}

func failuresOf(a negotiate.Attempt) []failure {
	if a.Failure != nil {
		return []failure{{a.Failure, a, nil}}
	}
	var out []failure
	for _, c := range a.Children {
		if c.Failure != nil {
			out = append(out, failure{c.Failure, a, c.Of})
		}
	}
	return out
}

// sameLines reports whether two failures are about the same pair of lines, whichever end begins.
func sameLines(a, b *negotiate.Failure) bool {
	return a.Lines == b.Lines || a.Lines[0] == b.Lines[1] && a.Lines[1] == b.Lines[0]
}

// of starts a finding about a failure, with a line of either end.
func of(p *audit.Pass, t *pair.Tunnel, a negotiate.Attempt, f *negotiate.Failure) audit.Finding {
	end, other, far := a.Initiator, a.Responder, f.Lines[1]
	at := f.Lines[0]
	if at.IsZero() {
		end, other, at, far = a.Responder, a.Initiator, f.Lines[1], f.Lines[0]
	}
	if end.Connection == nil { // the other end has none for it
		end, other = other, end
	}
	out := p.On(&audit.Subject{End: end, Tunnel: t}, at, false)
	out.Message = f.Why
	if f.Notify != "" {
		out.Message += " (" + string(f.Step) + ": " + f.Notify + ")"
	}
	out.Fix = strings.ToUpper(f.Changes[0][:1]) + strings.Join(f.Changes, "; or ")[1:] + "."
	if !far.IsZero() && other.Connection != nil {
		out.Also = append(out.Also, audit.Evidence{Pos: far, Note: "what is configured on " + other.Name()})
	}
	return out
}

// both starts a finding about both ends, or about a child of both (the first end's, nil for none), at a line of one end, with one of the
// other as further evidence.
func both(p *audit.Pass, t *pair.Tunnel, child *model.Child, at, other source.Pos) audit.Finding {
	f := p.On(&audit.Subject{End: t.Ends[0], Tunnel: t, Child: child}, at, false)
	f.Also = []audit.Evidence{{Pos: other, Note: "what is configured on " + t.Ends[1].Name()}}
	f.Rests(doubts(t))
	return f
}

// doubts are what was not understood of either end: of the connections, their children, and the daemons' configurations as a whole.
func doubts(t *pair.Tunnel) model.Doubts {
	var out model.Doubts
	for _, e := range t.Ends {
		out.Add(e.Gateway.Doubts(model.AboutIKE)...)
		out.Add(e.Connection.Doubts...)
		for _, k := range e.Connection.Children {
			out.Add(k.Doubts...)
		}
	}
	return out
}

// pairs are the children that both ends have.
func pairs(t *pair.Tunnel) []pair.ChildPair {
	if len(t.Ends) < 2 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(t.Children()), func(c pair.ChildPair) bool { return c.A == nil || c.B == nil })
}

// strongest is the strongest suite that two lists have in common.
func strongest(mine, theirs []ike.Proposal) ike.Suite {
	var best ike.Suite
	for _, p := range mine {
		for _, q := range theirs {
			if s, ok := narrowest(p, q); ok && s.Strength() > best.Strength() {
				best = s
			}
		}
	}
	return best
}

// narrowest is the strongest suite of two proposals: of every type the strongest that both have.
func narrowest(p, q ike.Proposal) (ike.Suite, bool) {
	by := func(cs ike.Choices) ike.Choices {
		out := slices.Clone(cs)
		slices.SortStableFunc(out, func(a, b ike.Choice) int { return b.Strength() - a.Strength() })
		return out
	}
	for _, r := range ike.TypesShown() {
		p.Transforms[r] = by(p.Transforms[r])
	}
	return p.Agree(q)
}
