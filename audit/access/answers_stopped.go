package access

import (
	"fmt"

	"toril/audit"
	"toril/walk"
)

// AnswersStopped reports where connections through a tunnel are let in and their answers are not.
var AnswersStopped = &audit.Check{
	Name:     "access/answers-stopped",
	Title:    "Replies to tunnel connections are dropped",
	Severity: audit.High,
	Why:      "The first packet passes and nothing comes back: every connection times out.",
	Fix:      "Accept established and related packets at the top of the forward chain.",
	PartOf: []audit.Part{
		{Of: "access/blocked", By: audit.SameLine},
	},
	Suggest: audit.Rules(audit.AcceptAnswers),
	Doc: audit.Doc{
		What: "The replies to every new connection that the filter allows into a tunnel, or out of it, are sent through the " +
			"filter as packets of an established connection, in the other direction.",
		Harm: "The counters of the accepting rule rise, the tunnel's counters rise in one direction only, and the search starts " +
			"at the far end.",
		Write:   "ct state established,related accept; for iptables: -A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT.",
		Sources: []string{"nft(8)", "iptables-extensions(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		for _, c := range path.Crossings(pol) {
			for _, way := range []struct {
				what    string
				answers []walk.Answer
			}{{"out of %s, to connections allowed into it, are dropped", c.Sent}, {"into %s, to connections allowed out of it, are " +
				"dropped", c.Given}} {
				for _, a := range way.answers {
					passed, stopped := filtered(a.Gets)
					if len(stopped) == 0 {
						continue
					}
					f := p.On(s, stopped[0].Decided(s.Child.At), false)
					if len(passed) > 0 {
						f.Lower(1)
					}
					w, _ := stopped[0].Was().Witness()
					f.Example = w.String()
					f.Message = fmt.Sprintf("replies "+way.what, s.Child.Name)
					if r, _ := a.To.Decisive(); r != nil {
						f.Also = []audit.Evidence{{Pos: r.At, Note: "the rule that accepts the connections"}}
					}
					f.Rests(reasons(stopped), a.To.Doubts, path.TrafficDoubts(pol))
					p.Report(f)
					return
				}
			}
		}
	},
}
