package nat

import (
	"fmt"

	"toril/audit"
	"toril/source"
	"toril/walk"
)

// OuterRewritten reports where the ESP packets themselves are translated.
var OuterRewritten = &audit.Check{
	Name:     "nat/outer-rewritten",
	Title:    "The ESP packets themselves are translated",
	Severity: audit.High,
	Why:      "Encrypted packets go through source NAT once more: with another source, the peer does not accept them.",
	Fix:      "Exempt ESP before the translation, or translate to the tunnel's own address.",
	Suggest:  audit.Rules(audit.ExemptOuter),
	Doc: audit.Doc{
		What: "The ESP packets of every child, from the own tunnel address to the peer's, are routed and sent through output and " +
			"postrouting.",
		Harm:    "The tunnel is up and the counters rise on this side; on the other nothing arrives, as the SA is for another address.",
		Write:   "meta l4proto esp accept, then oifname \"wan0\" snat to 198.51.100.2.",
		Sources: []string{"RFC 4303", "nft(8)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || s.Shunted() {
			return
		}
		for _, o := range path.Outer(pol) {
			w, ok := o.Now.Witness()
			if o.Fate != walk.Clear || !ok || w.Src == pol.Own {
				continue
			}
			f := p.On(s, last(o), false)
			f.Message = fmt.Sprintf("the ESP packets of %s leave from %s and not from %s", s.Child.Name, w.Src, pol.Own)
			f.Also = []audit.Evidence{{Pos: s.Connection.LocalAddrs.Where(s.Connection.At), Note: "the own tunnel address"}}
			f.Fix = audit.Sentence(
				"exempt ESP before the translation: "+p.In(audit.ExemptESP, s.Gateway.Name, f.At.Pos),
				"translate to the tunnel's own address",
			)
			f.Rests(o.Doubts)
			p.Report(f)
			return
		}
	},
}

func last(o walk.Outcome) source.Pos {
	for i := len(o.Steps) - 1; i >= 0; i-- {
		if r := o.Steps[i].Rule; r != nil && r.Verb.Translates() {
			return r.At
		}
	}
	return source.Pos{}
}
