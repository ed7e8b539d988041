package key

import (
	"fmt"
	"slices"
	"time"

	"toril/audit"
	"toril/model"
)

// RevocationsLate reports where an authority's list of revoked certificates should have been renewed.
var RevocationsLate = &audit.Check{
	Name:     "key/revocations-late",
	Title:    "A list of revoked certificates is out of date",
	Severity: audit.High,
	Why:      "What the authority has revoked since is not on it: a stolen key is still good for a tunnel.",
	Fix:      "Fetch the authority's list again, and have it fetched before each one ends.",
	Doc: audit.Doc{
		What: "The day by which each list of revoked certificates (CRL) beside the configuration was to be replaced is compared with " +
			"the day of the audit (--as-of; today unless said).",
		Harm: "Most daemons go on with the old list, and nobody notices; OpenIKED, and strongSwan where it is strict, trust no " +
			"certificate of that authority from that day on, and no tunnel with one comes up again.",
		Write:   "A list that is fetched once a day, and that holds for a week.",
		Sources: []string{"RFC 5280 section 5.1.2.5", "RFC 4945 section 5.2"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, l := range g.Revocations {
			if !l.Late(p.Now) {
				continue
			}
			f := audit.Finding{Gateway: g.Name, About: "revocations of " + l.Issuer.String(), At: audit.Evidence{Pos: l.At}}
			f.Message = fmt.Sprintf("the list of certificates that %s has revoked was to be replaced by %s",
				l.Issuer, l.X509.NextUpdate.UTC().Format(time.DateOnly))
			demands := func(c *model.Connection) bool { return c.Daemon.Certs.WantsLists || c.Remote.Strict }
			if slices.ContainsFunc(g.Connections, demands) {
				f.Message += ", and the daemon trusts none of its certificates any more"
				f.Means(audit.Stops)
			} else {
				f.Lower(1)
			}
			p.Report(f)
		}
	},
}
