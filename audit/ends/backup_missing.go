package ends

import (
	"fmt"

	"toril/audit"
	"toril/pair"
)

// BackupMissing reports where one end names several addresses for its peer and the other has no more than one.
var BackupMissing = &audit.Check{
	Name:     "ends/backup-missing",
	Title:    "Redundancy configured on one end only",
	Severity: audit.Low,
	Why:      "A second address for the peer helps only if the peer responds at it, and sends from it.",
	Fix:      "Configure the second address on both ends, or take it out.",
	Doc: audit.Doc{
		What: "An end that names more than one address for its peer, where the peer sends from one of them only and no second " +
			"tunnel joins the two gateways.",
		Harm:    "The line fails, and the backup that everyone counted on was never there.",
		Write:   "local_addrs = 198.51.100.7, 203.0.113.7 on the far end too.",
		Sources: []string{"RFC 7296 section 2.23", "RFC 4555"},
	},
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		if len(t.Ends) < 2 {
			return
		}
		for i, e := range t.Ends {
			far := t.Ends[1-i]
			named, has := e.Connection.RemoteAddrs, far.Connection.LocalAddrs
			if len(named.Value.Fixed()) < 2 || has.Value.Any() || len(has.Value.Fixed()) >= len(named.Value.Fixed()) {
				continue
			}
			f := p.On(&audit.Subject{End: e, Tunnel: t}, named.Where(e.Connection.At), false)
			f.Rests(doubts(t))
			f.Also = []audit.Evidence{{Pos: has.Where(far.Connection.At), Note: "what " + far.Name() + " says"}}
			f.Message = fmt.Sprintf(
				"%s names %s as addresses of its peer, and %s sends from %s only",
				e.Gateway.Name,
				named.Value,
				far.Gateway.Name,
				has.Value,
			)
			p.Report(f)
		}
	},
}
