// Package ends holds the checks that compare both ends of a tunnel. What they say is predicted by package agree.
package ends

import (
	"slices"
	"strings"

	"toril/audit"
	"toril/ike"
	"toril/negotiate"
	"toril/pair"
	"toril/source"
)

// failing makes a Tunnel function that speaks where an attempt fails for one of some topics: high where both ends'
// attempts do, medium where only one end's does.
func failing(topics ...negotiate.Topic) func(*audit.Pass, *pair.Tunnel) {
	return func(p *audit.Pass, t *pair.Tunnel) {
		attempts := p.Attempts(t)
		var hits []*negotiate.Failure
		var by []negotiate.Attempt
		seen := 0
		for _, a := range attempts {
			found := false
			for _, f := range failuresOf(a) {
				if !slices.Contains(topics, f.Topic) ||
					f.Topic == negotiate.Refused && a.Outcome == negotiate.NoStart { // ike/refused says it
					continue
				}
				found = true
				if !slices.ContainsFunc(hits, func(o *negotiate.Failure) bool { return sameLines(o, f) }) {
					hits, by = append(hits, f), append(by, a)
				}
			}
			if found {
				seen++
			}
		}
		for i, f := range hits {
			out := of(p, t, by[i], f)
			if seen < 2 {
				out.Lower(1)
				out.Message = "if " + by[i].Initiator.Gateway.Name + " initiates: " + out.Message
			}
			if by[i].Unsure != "" {
				out.Unsure = by[i].Unsure
			}
			p.Report(out)
		}
	}
}

func failuresOf(a negotiate.Attempt) []*negotiate.Failure {
	if a.Failure != nil {
		return []*negotiate.Failure{a.Failure}
	}
	var out []*negotiate.Failure
	for _, c := range a.Children {
		if c.Failure != nil {
			out = append(out, c.Failure)
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

// both starts a finding at a line of one end, with one of the other as further evidence.
func both(p *audit.Pass, t *pair.Tunnel, at, other source.Pos) audit.Finding {
	f := p.On(&audit.Subject{End: t.Ends[0], Tunnel: t}, at, false)
	f.Also = []audit.Evidence{{Pos: other, Note: "what is configured on " + t.Ends[1].Name()}}
	return f
}

// pairs are the children that both ends have.
func pairs(t *pair.Tunnel) []pair.ChildPair {
	if len(t.Ends) < 2 {
		return nil
	}
	return slices.DeleteFunc(t.Children(), func(c pair.ChildPair) bool { return c.A == nil || c.B == nil })
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
