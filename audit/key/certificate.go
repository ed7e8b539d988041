package key

import (
	"fmt"
	"slices"
	"time"

	"toril/audit"
	"toril/baseline"
	"toril/ike"
	"toril/model"
	"toril/present"
)

// onCertificate starts a finding about a certificate, in the tunnel of a connection that names it.
func onCertificate(p *audit.Pass, g *model.Gateway, c *model.Certificate) audit.Finding {
	f := audit.Finding{Gateway: g.Name, About: "certificate of " + c.Subject.String(), At: audit.Evidence{Pos: c.At}}
	for _, conn := range g.Connections {
		if slices.Contains(g.CertificatesOf(conn), c) {
			f.Connection, f.Tunnel = conn.Name, tunnelOf(p, g, conn)
			f.Also = []audit.Evidence{{Pos: conn.Local.Certificates.Where(conn.At), Note: "the connection that shows it"}}
			break
		}
	}
	return f
}

// users are the connections that show a certificate.
func users(g *model.Gateway, c *model.Certificate) []*model.Connection {
	return slices.DeleteFunc(
		slices.Clone(g.Connections),
		func(x *model.Connection) bool { return !slices.Contains(g.CertificatesOf(x), c) },
	)
}

// strictest is the limit that asks the most of a certificate, of those that hold for the connections that show it.
func strictest(p *audit.Pass, g *model.Gateway, c *model.Certificate, k *baseline.Kind) baseline.Limit {
	var out baseline.Limit
	for _, b := range p.Baselines(g, users(g, c)) {
		if l := b.Limit(k); l.Least > out.Least {
			out = l
		}
	}
	return out
}

// ShortRSA reports where an RSA key is too short.
var ShortRSA = onRaw(baseline.RSABits, isRSA, onEach(&audit.Check{
	Name:     "key/short-rsa",
	Title:    "An RSA key is too short",
	Severity: audit.High,
	Why:      "Anyone who factors the key can impersonate its owner.",
	Fix:      "Generate a new key, ECDSA P-384 or RSA with 3072 bits; have a certificate made for it, or give it to the peer.",
	Doc: audit.Doc{
		What: "The length of every RSA key in the certificates that lie beside the configuration, and of those that connections have " +
			"without a certificate, is compared with the baseline's least length.",
		Harm: "Keys of 1024 bits are within reach of well-funded attackers; a certificate lives for years, and so does what an " +
			"attacker learns from it.",
		Write:   "openssl ecparam -name secp384r1 -genkey, or openssl genrsa 3072; then a certificate for it.",
		Sources: []string{"RFC 8247", "NIST SP 800-77 Rev. 1"},
		Demands: []string{baseline.RSABits.Name},
	},
}, func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool) {
	l := strictest(p, g, c, baseline.RSABits)
	if !isRSA(c.KeyType) || float64(c.KeyBits) >= l.Least {
		return f, false
	}
	f = tooShort(p, g, c, l)
	f.Message = fmt.Sprintf("the RSA key of %s has %d bits, fewer than %.0f", c.Subject, c.KeyBits, l.Least)
	return f, true
}))

// ShortCurve reports where the key of a certificate is on too small a curve.
var ShortCurve = onRaw(baseline.CurveBits, onCurve, onEach(&audit.Check{
	Name:     "key/short-curve",
	Title:    "A key is on too small a curve",
	Severity: audit.High,
	Why:      "Anyone who works out the key can impersonate its owner.",
	Fix:      "Generate a new key, ECDSA P-384; have a certificate made for it, or give it to the peer.",
	Doc: audit.Doc{
		What: "The length of every key on an elliptic curve (ECDSA, Ed25519, Ed448) in the certificates that lie beside the " +
			"configuration, and of those that connections have without a certificate, is compared with the baseline's least length.",
		Harm: "A curve of 192 bits is worth about 96, fewer than the 112 that every standard asks for; a certificate lives for " +
			"years.",
		Write:   "openssl ecparam -name secp384r1 -genkey; then a certificate for it.",
		Sources: []string{"NIST SP 800-77 Rev. 1", "RFC 9206"},
		Demands: []string{baseline.CurveBits.Name},
	},
}, func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool) {
	l := strictest(p, g, c, baseline.CurveBits)
	if !onCurve(c.KeyType) || c.KeyBits == 0 || float64(c.KeyBits) >= l.Least {
		return f, false
	}
	f = tooShort(p, g, c, l)
	f.Message = fmt.Sprintf("the %s key of %s has %d bits, fewer than %.0f", c.KeyType, c.Subject, c.KeyBits, l.Least)
	return f, true
}))

func isRSA(kind string) bool { return kind == "RSA" }

func onCurve(kind string) bool { return kind != "RSA" }

// onRaw completes a check of certificates with the keys of some kinds that connections have without one: their own, and those of peers that
// were not given.
func onRaw(k *baseline.Kind, is func(kind string) bool, c *audit.Check) *audit.Check {
	c.Connection = func(p *audit.Pass, s *audit.Subject) {
		l := s.Baseline.Limit(k)
		judge := func(party *model.Party, whose string) {
			keys, _ := s.Gateway.PublicKeysOf(party)
			for _, key := range keys {
				if !is(key.KeyType) || key.KeyBits == 0 || float64(key.KeyBits) >= l.Least {
					continue
				}
				f := p.On(s, key.At, false)
				byLength(&f, key.KeyBits, l)
				f.Message = fmt.Sprintf("the %s key of %s has %d bits, fewer than %.0f", key.KeyType, whose, key.KeyBits, l.Least)
				p.Report(f)
			}
		}
		judge(&s.Connection.Local, s.Connection.Name)
		if _, given := s.Far(); !given {
			judge(&s.Connection.Remote, "the peer of "+s.Connection.Name)
		}
	}
	return c
}

// tooShort is a finding about a certificate whose key is shorter than a limit.
func tooShort(p *audit.Pass, g *model.Gateway, c *model.Certificate, l baseline.Limit) audit.Finding {
	f := onCertificate(p, g, c)
	byLength(&f, c.KeyBits, l)
	return f
}

// byLength sets what a finding about a key of some bits measured, and by whom more are asked for.
func byLength(f *audit.Finding, bits int, l baseline.Limit) {
	f.By(l.Level, l.Level.String()+" by "+l.Source.String())
	if audit.OfLevel(l.Level) < audit.Medium { // short all the same
		f.By(baseline.Should, f.Standard)
	}
	f.Measured, f.Required = fmt.Sprintf("%d bits", bits), fmt.Sprintf("at least %.0f bits", l.Least)
}

// WeakSignature reports where a certificate is signed with MD5 or SHA-1.
var WeakSignature = onEach(&audit.Check{
	Name:     "key/weak-signature",
	Title:    "A certificate is signed with a broken hash",
	Severity: audit.High,
	Why:      "Two certificates with the same signature can be made, so the signature proves nothing.",
	Fix:      "Have the certificate signed again, with SHA-256 or better.",
	Doc: audit.Doc{
		What: "The signature of a certificate that lies beside the configuration uses MD5 or SHA-1. An authority's signature of " +
			"itself is not judged: nobody relies on it.",
		Harm:    "An attacker who gets one harmless certificate signed has a second one for another name, and is accepted as the peer.",
		Write:   "openssl x509 -sha384 ..., at the authority.",
		Sources: []string{"RFC 8247"},
		Demands: []string{baseline.SHA1Signature.Name},
	},
}, func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool) {
	var d baseline.Demand
	for _, b := range p.Baselines(g, users(g, c)) {
		if one := b.Demand(baseline.SHA1Signature); audit.OfLevel(one.Level) >= audit.OfLevel(d.Level) {
			d = one
		}
	}
	if !c.WeakHash || c.CA && c.SelfSigned || !d.Level.Against() {
		return f, false
	}
	f = onCertificate(p, g, c)
	f.By(d.Level, d.Level.String()+" by "+d.Source.String())
	f.Message = fmt.Sprintf("the certificate of %s is signed with %s", c.Subject, c.Signature)
	return f, true
})

// Expiry reports where a certificate does not hold, or not for long.
var Expiry = onEach(&audit.Check{
	Name:     "key/certificate-expiry",
	Title:    "A certificate has expired or is about to",
	Severity: audit.High,
	Why:      "From that moment the peer rejects the connection: a tunnel that was up for years does not come up again.",
	Fix:      "Renew the certificate, on both ends where both have one.",
	Doc: audit.Doc{
		What: "The days between which every certificate beside the configuration holds are compared with the day of the audit " +
			"(--as-of; today unless said), and with the notice that the " +
			"baseline gives.",
		Harm: "The tunnel stays up until the next reauthentication or restart, so the outage comes later than the expiry, and " +
			"nobody connects the two.",
		Write:   "A certificate that holds for a year, and a note of when it ends.",
		Sources: []string{"RFC 5280 section 4.1.2.5", "RFC 7296 section 3.6"},
		Demands: []string{baseline.CertificateExpiry.Name},
	},
}, func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool) {
	l := strictest(p, g, c, baseline.CertificateExpiry)
	notice := time.Duration(l.Least * float64(time.Second))
	f = onCertificate(p, g, c)
	f.Standard = l.Source.String()
	day := func(t time.Time) string { return t.UTC().Format(time.DateOnly) }
	switch {
	case c.Late(p.Now):
		f.Message = fmt.Sprintf("the certificate of %s expired on %s", c.Subject, day(c.To))
		f.Means(audit.Stops)
	case c.Early(p.Now):
		f.Message = fmt.Sprintf("the certificate of %s holds only from %s", c.Subject, day(c.From))
		f.Means(audit.Stops)
	case c.To.Sub(p.Now) < notice:
		f.Lower(1)
		f.Message = fmt.Sprintf("the certificate of %s expires on %s, within %s", c.Subject, day(c.To), present.Span(notice))
	default:
		return f, false
	}
	return f, true
})

// Usage reports where a certificate is shown to a peer and is not for that.
var Usage = &audit.Check{
	Name:     "key/certificate-usage",
	Title:    "A certificate is not for what it is used for",
	Severity: audit.Medium,
	Why:      "A peer that follows the standard rejects the certificate.",
	Fix: "Have a certificate made for IKE: key usage digitalSignature, no authority, and no extended key usage or one that " +
		"allows IKE.",
	Doc: audit.Doc{
		What: "A certificate that a connection shows its peer is an authority's own, or its key usage allows no signatures, or its " +
			"extended key usage names purposes that IKE is not " +
			"among.",
		Harm: "The tunnel works with one make and fails with the next; an authority's key on a gateway can sign certificates for " +
			"anyone once the gateway is taken over.",
		Write:   "keyUsage = digitalSignature; extendedKeyUsage = 1.3.6.1.5.5.7.3.17; basicConstraints = CA:FALSE.",
		Sources: []string{"RFC 4945 section 5.1.3"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		for _, c := range s.Gateway.CertificatesOf(s.Connection) {
			f := onCertificate(p, s.Gateway, c)
			switch {
			case c.CA:
				f.Message = fmt.Sprintf(
					"the certificate of %s is that of an authority, and the connection shows it as its own",
					c.Subject,
				)
			case !c.Signs:
				f.Message = fmt.Sprintf("the key usage of the certificate of %s allows no signatures", c.Subject)
			case !c.ForIKE:
				f.Message = fmt.Sprintf("the extended key usage of the certificate of %s is for other things than IKE", c.Subject)
			default:
				continue
			}
			p.Report(f)
		}
	},
}

// Name reports where a certificate does not prove the identity that is written beside it.
var Name = &audit.Check{
	Name:     "key/certificate-name",
	Title:    "The certificate does not prove the configured identity",
	Severity: audit.High,
	Why:      "The peer does not find the identity in the certificate and rejects it: the log says only that authentication failed.",
	Fix:      "Configure an identity that is in the certificate, or have the name added to its alternative names.",
	Doc: audit.Doc{
		What: "A connection sends a certificate and has an own identity configured, and the identity is neither the certificate's " +
			"subject nor one of its alternative names.",
		Harm: "The tunnel does not come up; or, with a peer that falls back to the subject, it is known under another name than " +
			"its rules expect.",
		Write:   "In swanctl.conf: local { certs = skerry.pem  id = skerry.example }, where subjectAltName has DNS:skerry.example.",
		Sources: []string{"RFC 7296 section 3.5", "RFC 4945 section 3.1"},
	},
	PartOf: []audit.Part{{Of: "ends/certificate-untrusted", By: audit.SameLine}},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		id := s.Connection.Local.ID
		if id.Value.Kind == ike.NoID || id.Value.Wild() || len(s.Connection.Local.Certificates.Value) == 0 {
			return
		}
		certs := s.Gateway.CertificatesOf(s.Connection)
		if len(certs) == 0 || slices.ContainsFunc(certs, func(c *model.Certificate) bool { return c.Shows(id.Value) }) {
			return
		}
		f := p.On(s, id.Where(s.Connection.At), false)
		f.Message = fmt.Sprintf("the identity %s is not in the certificate of %s", id.Value, certs[0].Subject)
		f.Also = []audit.Evidence{{Pos: certs[0].At, Note: "the certificate"}}
		p.Report(f)
	},
}

// PrivateSaved reports where a private key was saved with the configuration.
var PrivateSaved = &audit.Check{
	Name:     "key/private-key-saved",
	Title:    "A private key lies beside the configuration",
	Severity: audit.Low,
	Why:      "Anyone who gets this copy can impersonate the gateway.",
	Fix:      "Keep private keys out of what is handed over, and replace one that was.",
	Doc: audit.Doc{
		What:    "A file of the gateway's folder holds a private key. Toril does not look into it.",
		Harm:    "Backups and audit folders are copied more freely than gateways are opened.",
		Write:   "Leave the folder of private keys out of the backup that auditors get.",
		Sources: []string{"NIST SP 800-57 Part 1"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, at := range g.PrivateKeys {
			p.Report(
				audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: at}, Message: "a private key was saved with the configuration"},
			)
		}
	},
}
