package key

import (
	"strings"

	"toril/audit"
	"toril/ike"
)

// FarRule reports where a key is not what the far end's device takes.
var FarRule = &audit.Check{
	Name:     "key/far-rule",
	Title:    "The pre-shared key is not what the far end takes",
	Severity: audit.Medium,
	Why: "A device that cuts a key off, or leaves characters out, holds another key than this end: authentication fails, and nothing " +
		"says why.",
	Fix: "Agree on a key that both ends take, as random and as long as the far end's rule allows.",
	Doc: audit.Doc{
		What: "The keys of tunnels to partners for whom toril.yaml has a rule (keys:): length, kinds of characters, " +
			"characters that are " +
			"forbidden. The key is never shown.",
		Harm:    "The tunnel never comes up, or a weaker key than agreed on protects it.",
		Write:   "keys: [{partner: quayside, least: 20, most: 64, characters: [letters, digits]}] in toril.yaml, and a key that fits.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		if len(p.Estate.KeyRules) == 0 {
			return
		}
		names := []string{s.Connection.Name}
		if far, ok := s.Far(); ok {
			names = append(names, far.Gateway.Name)
		}
		id, _ := s.Shows(s.Tunnel.Own(s.End))
		k := s.Gateway.KeyFor(s.Connection, []ike.Identity{id}, []ike.Identity{s.Connection.Remote.ID.Value})
		if k == nil || !k.Given() {
			return
		}
		for _, r := range p.Estate.KeyRulesFor(names...) {
			broken := r.Breaks(k.Secret.Reveal())
			if len(broken) == 0 {
				continue
			}
			f := p.On(s, k.At, false)
			why := strings.Join(broken, "; ")
			f.Message = "the key for " + s.Connection.Name + " breaks the far end's rule (" + r.String() + "): " + why
			f.Also = []audit.Evidence{{Pos: r.At, Note: "the rule"}}
			f.Standard = r.Source
			p.Report(f)
		}
	},
}
