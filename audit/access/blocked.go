package access

import (
	"fmt"

	"toril/audit"
	"toril/packet"
	"toril/walk"
)

// Blocked speaks where the filter lets nothing of a tunnel through in one direction.
var Blocked = &audit.Check{
	Name:     "access/blocked",
	Title:    "The filter lets nothing through in one direction",
	Severity: audit.High,
	Why:      "The tunnel is up and no packet passes, or connections can be opened from one side only.",
	Mend:     "Accept what the tunnel is for in the forward chain, in each direction that connections are opened in, and the replies.",
	Doc: audit.Doc{
		What: "New connections out of the networks behind the gateway into every child, new connections that come out of it, and the replies to those that go in are sent through the whole filter. The check speaks where all of one kind are stopped. " +
			"Tunnels whose intent is declared are left to access/short-of-intent.",
		Harm:    "The tunnel shows as established, so the search begins at the far end; it is the own filter that stops every packet.",
		Write:   "ct state established,related accept, and ip saddr 10.1.0.0/16 ip daddr 10.2.0.0/16 accept.",
		Sources: []string{"nft(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		if _, declared := s.Tunnel.Intended(s.End); declared {
			return // access/short-of-intent asks about what is meant
		}
		speak := func(what string, os []walk.Outcome, severity audit.Severity) bool {
			passed, stopped := filtered(os)
			if len(passed) > 0 || len(stopped) == 0 {
				return false
			}
			f := p.On(s, stopped[0].Decided(s.Child.At), false)
			f.Severity = severity
			w, _ := stopped[0].Was().Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("%s %s: the filter stops all of them", what, s.Child.Name)
			f.Undecided(reasons(stopped))
			p.Report(f)
			return true
		}
		out := path.Domain(pol)
		outStopped := !out.Now.Empty() && speak("new connections into", path.Forward(out), audit.High)
		_, inner := path.Inbound(pol, pol.Back())
		if len(inner) > 0 {
			severity := audit.Low // many tunnels are opened from one side only
			if outStopped {
				severity = audit.High
			}
			speak("new connections out of", inner, severity)
		}
		if outStopped || out.Now.Empty() {
			return
		}
		answers := returning(path, pol, pol.Back(), packet.Established)
		speak("the answers out of", path.Forward(walk.Start(answers)), audit.High)
	},
}
