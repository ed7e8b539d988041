// Package ends holds the checks that compare both ends of a tunnel. What they say is predicted by package agree.
package ends

import (
	"slices"
	"strings"

	"toril/agree"
	"toril/audit"
	"toril/estate"
)

// failing makes a Tunnel function that speaks where an attempt fails for one of some topics: high where both ends'
// attempts do, medium where only one end's does.
func failing(topics ...agree.Topic) func(*audit.Pass, *estate.Tunnel) {
	return func(p *audit.Pass, t *estate.Tunnel) {
		attempts := agree.Tunnel(t)
		var hits []*agree.Failure
		var by []agree.Attempt
		seen := 0
		for _, a := range attempts {
			found := false
			for _, f := range failuresOf(a) {
				if !slices.Contains(topics, f.Topic) || a.Outcome == agree.NoStart {
					continue
				}
				found = true
				if !slices.ContainsFunc(hits, func(o *agree.Failure) bool { return sameLines(o, f) }) {
					hits, by = append(hits, f), append(by, a)
				}
			}
			if found {
				seen++
			}
		}
		for i, f := range hits {
			out := of(p, t, by[i], f)
			out.Severity = audit.High
			if seen < 2 {
				out.Severity = audit.Medium
				out.Message = "if " + by[i].Initiator.Gateway.Name + " begins: " + out.Message
			}
			if by[i].Unsure != "" {
				out.Unsure = by[i].Unsure
			}
			p.Report(out)
		}
	}
}

func failuresOf(a agree.Attempt) []*agree.Failure {
	if a.Failure != nil {
		return []*agree.Failure{a.Failure}
	}
	var out []*agree.Failure
	for _, c := range a.Children {
		if c.Failure != nil {
			out = append(out, c.Failure)
		}
	}
	return out
}

// sameLines reports whether two failures are about the same pair of lines, whichever end begins.
func sameLines(a, b *agree.Failure) bool {
	return a.Lines == b.Lines || a.Lines[0] == b.Lines[1] && a.Lines[1] == b.Lines[0]
}

// of starts a finding about a failure, with a line of either end.
func of(p *audit.Pass, t *estate.Tunnel, a agree.Attempt, f *agree.Failure) audit.Finding {
	end, other, far := a.Initiator, a.Responder, f.Lines[1]
	at := f.Lines[0]
	if at.IsZero() {
		end, other, at, far = a.Responder, a.Initiator, f.Lines[1], f.Lines[0]
	}
	out := p.On(&audit.Subject{End: end, Tunnel: t}, at, false)
	out.Message = f.Why
	if f.Notify != "" {
		out.Message += " (" + string(f.Step) + ": " + f.Notify + ")"
	}
	out.Mend = strings.ToUpper(f.Changes[0][:1]) + strings.Join(f.Changes, "; or ")[1:] + "."
	if !far.IsZero() {
		out.Also = append(out.Also, audit.Evidence{Pos: far, Note: "what " + other.Name() + " says"})
	}
	return out
}
