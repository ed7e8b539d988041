package observed

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/observe"
)

// Failed reports where a log tells of a negotiation that failed, and of no later one that worked.
var Failed = &audit.Check{
	Name:     "observed/failed",
	Title:    "A negotiation failed, by the daemon's log",
	Severity: audit.High,
	Symptom:  true,
	Why:      "The daemon tried, and the two ends did not agree.",
	Fix:      "Make both ends say the same of what the log names.",
	PartOf:   append(parts(audit.SameTunnel, negotiated...), parts(audit.SameEnd, "observed/not-up", "observed/failed")...),
	Doc: audit.Doc{
		What: "Notifications of errors in saved logs (RFC 7296, section 3.10.1), which end sent them, what was received and what is " +
			"configured. A failure that a later success follows is not spoken of. Peers that no connection is for are named with " +
			"their address.",
		Harm:    "The tunnel does not come up, or dies when it is rekeyed.",
		Write:   "What the far end offers and what this end accepts must have one suite in common: see toril ends.",
		Sources: []string{"RFC 7296 sections 2.21 and 3.10.1"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok {
			return
		}
		for _, fail := range e.Failures {
			f := p.On(s, fail.At, false)
			f.Child, f.About = fail.Child, fail.Notify+" "+fail.What
			f.Message = "negotiation with " + peerOf(s, fail) + " failed: " + observe.FailureText(fail)
			f.Measured, f.Required = fail.Received, fail.Configured
			if fail.Received != "" {
				f.Message += "; received: " + fail.Received
			}
			if fail.Configured != "" {
				f.Message += "; configured: " + fail.Configured
			}
			f.Measured, f.Required = "", ""
			p.Report(f)
		}
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		of := map[string]bool{}
		for _, m := range p.Estate.MatchesOf(g) {
			for i, side := range m.Sides {
				of[m.Peer(i).String()] = of[m.Peer(i).String()] || side.Gateway.Number == g.Number
			}
		}
		for _, fail := range g.Observed.Failures {
			if !fail.Peer.IsValid() || of[fail.Peer.String()] || fail.Connection != "" || !fail.Sent {
				continue
			}
			f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: fail.At}, About: fail.Peer.String()}
			f.Message = fmt.Sprintf("%s tried and was refused: %s", fail.Peer, observe.FailureText(fail))
			f.Why = "Either a partner's new address, whose tunnel is down, or somebody who tries."
			f.Fix = "Ask whose the address is; where it is a partner's, give it a connection."
			f.Lower(2)
			p.Report(f)
		}
	},
}

func peerOf(s *audit.Subject, f *model.Failure) string {
	if far, ok := s.Far(); ok {
		return far.Gateway.Name
	}
	if f.Peer.IsValid() {
		return f.Peer.String()
	}
	return s.Connection.RemoteAddrs.Value.String()
}
