package ike

import (
	"slices"

	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/pair"
)

// Quantum reports where recorded traffic would open to a quantum computer.
var Quantum = &audit.Check{
	Name:     "ike/quantum",
	Title:    "No protection against a quantum computer",
	Severity: audit.Info,
	Why:      "Traffic recorded today can be decrypted once such a computer exists.",
	Fix:      "Add ML-KEM as an additional key exchange, or a post-quantum pre-shared key, where both ends can.",
	Suggest:  audit.ByPeople("it needs a key exchange, or a post-quantum key, that both daemons know"),
	Doc: audit.Doc{
		What: "No proposal of the connection has a key exchange that is thought to withstand a quantum computer, and no " +
			"post-quantum pre-shared key is required.",
		Harm: "Anyone who records the exchange and the packets now can compute the keys later. What matters is for how long the " +
			"content must stay secret.",
		Write: "On daemons that know them: proposals = aes256gcm16-prfsha384-ecp384-ke1_mlkem1024 (RFC 9370); else ppk_id and " +
			"ppk_required = yes (RFC 8784).",
		Sources: []string{"RFC 9370", "RFC 8784", "FIPS 203"},
		Demands: []string{baseline.QuantumSafe.Name, baseline.QuantumSafeKE.Name},
	},
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		var f audit.Finding
		for _, end := range t.Ends {
			c, b := end.Connection, p.BaselineFor(t, end)
			d, enough := b.Demand(baseline.QuantumSafe), c.PPK.Value && c.PPKRequired.Value
			if ke := b.Demand(baseline.QuantumSafeKE); audit.OfLevel(ke.Level) > audit.Info { // a key is not enough
				d, enough = ke, false
			}
			if d.Level == baseline.Unsaid || c.Unusable != nil || enough ||
				len(c.Proposals.Value) > 0 && !slices.ContainsFunc(c.Proposals.Value, unsafe) {
				continue
			}
			at := c.Proposals.Where(c.At)
			if !f.At.IsZero() {
				f.Also = append(f.Also, audit.Evidence{Pos: at, Note: "the other end"})
				continue
			}
			f = p.On(&audit.Subject{End: end, Tunnel: t}, at, c.Proposals.IsDefault())
			f.By(d.Level, d.Source.String())
			f.Message = "no key exchange of the tunnel withstands a quantum computer, and no post-quantum pre-shared key is required"
			if d.Name == baseline.QuantumSafeKE.Name {
				f.Message = "no key exchange of the tunnel withstands a quantum computer, and the baseline does not take a " +
					"post-quantum pre-shared key for one"
			}
		}
		if !f.At.IsZero() {
			p.Report(f)
		}
	},
}

// unsafe reports whether a proposal may end in a key exchange that a quantum computer breaks.
func unsafe(pr algo.Proposal) bool {
	for r := algo.KeyExchange; r <= algo.Additional7; r++ {
		cs := pr.Of(r)
		if r != algo.Sequence && len(cs) > 0 && !slices.ContainsFunc(cs, func(c algo.Choice) bool { return !c.Resists() }) {
			return false
		}
	}
	return true
}
