package ike

import (
	"fmt"
	"slices"
	"strings"

	"toril/audit"
	"toril/baseline"
	algo "toril/ike"
	"toril/model"
	"toril/model/settings"
)

// Authentication reports where an end authenticates by a method that the baseline advises against, or by a key where it asks for
// certificates.
var Authentication = &audit.Check{
	Name:     "ike/authentication",
	Setting:  settings.OwnAuthentication.Row,
	Title:    "The authentication method is not what the baseline asks for",
	Severity: audit.High,
	Why:      "Everything that the tunnel protects is only as safe as the authentication of the other end.",
	Fix:      "Authenticate with certificates whose keys the baseline allows, on both ends.",
	PartOf: []audit.Part{
		{Of: "ike/authentication", By: audit.SameTunnel},
	},
	Doc: audit.Doc{
		What: "The method by which each end authenticates: a pre-shared key, none at all, or a signature, whose IANA method follows " +
			"from the key of the certificate that the connection shows, as far as it was given. " +
			"A baseline may ask for certificates, or give levels to single methods.",
		Harm: "Where several people know a pre-shared key, any of them can impersonate either end; a signature with a method that " +
			"is no longer trusted can be forged.",
		Write:   "local { auth = pubkey  certs = own.pem } and remote { auth = pubkey  cacerts = ca.pem } on both ends.",
		Sources: []string{"RFC 7296 section 3.8", "RFC 8247 section 3", "RFC 9206"},
		Demands: []string{baseline.Certificates.Name, baseline.Algorithms},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		c := s.Connection
		method := c.Local.Method
		if d := s.Baseline.Demand(baseline.Certificates); audit.OfLevel(d.Level) > audit.Info &&
			(method.Value == algo.PSK || c.Remote.Method.Value == algo.PSK) {
			set := method
			if method.Value != algo.PSK {
				set = c.Remote.Method
			}
			f := p.On(s, set.Where(c.At), set.IsDefault())
			f.By(d.Level, d.Level.String()+" by "+d.Source.String())
			f.Message = "a pre-shared key authenticates, and the baseline asks for certificates" + audit.ByDefault(set)
			p.Report(f)
			return
		}
		var names []string
		worst, standard := baseline.Unsaid, ""
		methods := methodsOf(s.Gateway, c)
		for _, m := range methods {
			level, rule := s.Baseline.Judge(algo.IKE, m)
			if !level.Against() {
				continue
			}
			names = append(names, m.Name)
			if worst == baseline.Unsaid || level < worst {
				worst, standard = level, level.String()+" by "+rule.Source.String()
			}
		}
		if len(names) == 0 || len(names) < len(methods) {
			return // another method is possible
		}
		f := p.On(s, method.Where(c.At), method.IsDefault())
		f.By(worst, standard)
		f.Message = fmt.Sprintf("%s authenticates with %s", s.Gateway.Name, strings.Join(names, " or ")) + audit.ByDefault(method)
		p.Report(f)
	},
}

// signatures are the IANA authentication methods that a certificate's key can be used with: the one that is made for it, and
// Digital Signature (RFC 7427).
var signatures = map[string][]uint16{
	"RSA":       {1, 14},
	"DSA":       {3},
	"Ed25519":   {14},
	"ECDSA 256": {9, 14},
	"ECDSA 384": {10, 14},
	"ECDSA 521": {11, 14},
}

// methodsOf are the IANA authentication methods that an end may authenticate with; none where the files do not tell.
func methodsOf(g *model.Gateway, c *model.Connection) algo.Choices {
	var out algo.Choices
	add := func(ids ...uint16) {
		for _, id := range ids {
			if m := algo.Pick(algo.AuthMethod, id, 0); !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	switch c.Local.Method.Value {
	case algo.PSK:
		add(2)
	case algo.NoAuth:
		add(13)
	case algo.Certificate:
		for _, cert := range g.CertificatesOf(c) {
			key := cert.KeyType
			if key == "ECDSA" {
				key = fmt.Sprintf("ECDSA %d", cert.KeyBits)
			}
			add(signatures[key]...)
		}
	}
	return out
}
