package observed

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// NotConfigured reports where a daemon runs a connection that no file configures.
var NotConfigured = &audit.Check{
	Name:     "observed/not-configured",
	Title:    "A connection runs that no file configures",
	Severity: audit.Medium,
	Why:      "A tunnel that is in no file is in no audit: it was deleted from the file and not unloaded, or set up by hand.",
	Fix:      "Unload it, or configure it where the others are; then save the files again.",
	Doc: audit.Doc{
		What:    "IKE SAs that are up, and loaded connections, whose names are those of no connection in the gateway's files.",
		Harm:    "A partner whose contract ended still has a tunnel.",
		Write:   "swanctl --load-all --clear unloads what the files no longer have; swanctl --terminate --ike NAME ends what is up.",
		Sources: []string{"swanctl(8)"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Connections) == 0 {
			return // no configuration was given; read/… and the tables say so
		}
		seen := g.Unconfigured()
		told := map[string]bool{}
		for _, sa := range seen.IKE {
			if told[sa.Connection] || !sa.Up {
				continue
			}
			told[sa.Connection] = true
			f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: sa.At}, About: sa.Connection}
			f.Message = fmt.Sprintf("%s is up with %s, and no file that was given configures it", sa.Connection, sa.Remote)
			p.Report(f)
		}
		for _, l := range seen.Loaded {
			if told[l.Name] {
				continue
			}
			told[l.Name] = true
			f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: l.At}, About: l.Name}
			f.Message = l.Name + " is loaded, and no file that was given configures it"
			f.Lower(1)
			p.Report(f)
		}
	},
}
