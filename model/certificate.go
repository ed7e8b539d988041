package model

import (
	"bytes"
	"crypto/x509"
	"errors"
	"path"
	"slices"
	"time"

	"toril/ike"
	"toril/source"
)

// Certificate is an X.509 certificate that lies beside the configuration.
type Certificate struct {
	At         source.Pos
	Subject    ike.Identity   // a distinguished name
	Issuer     ike.Identity   // a distinguished name
	Names      []ike.Identity // subject alternative names
	KeyType    string         // "RSA", "ECDSA", "Ed25519", ...
	KeyBits    int
	Signature  string // algorithm of the signature: "SHA256-RSA"
	WeakHash   bool   // that is MD5 or SHA-1
	From, To   time.Time
	CA         bool
	SelfSigned bool
	Signs      bool // its key may be used for signatures: digitalSignature or nonRepudiation, or nothing said (RFC 4945 section 5.1.3.2)
	ForIKE     bool // its extended key usage allows IKE, or says nothing (RFC 4945 section 5.1.3.12)
	Behind     bool // it is not what its file begins with: another block stands before it, or a byte order mark
	X509       *x509.Certificate
}

// Late reports whether the certificate does not hold any more on a day.
func (c *Certificate) Late(day time.Time) bool { return day.After(c.To) }

// Turns reports whether the certificate begins or ceases to hold within a day, so that it depends on the hour.
func (c *Certificate) Turns(day time.Time) bool {
	begin := day.UTC().Truncate(24 * time.Hour)
	within := func(t time.Time) bool { return t.After(begin) && t.Before(begin.AddDate(0, 0, 1)) }
	return within(c.From) || within(c.To)
}

// Early reports whether the certificate does not hold yet, at whatever time of a day: one that was made on that day holds.
func (c *Certificate) Early(day time.Time) bool {
	return !c.From.Before(day.UTC().Truncate(24*time.Hour).AddDate(0, 0, 1))
}

// Shows reports whether the certificate proves an identity: its subject, or one of its alternative names.
func (c *Certificate) Shows(id ike.Identity) bool {
	return id == c.Subject || slices.Contains(c.Names, id)
}

// SignedBy reports whether a certificate's signature was made with the key of another, whatever that key may be used for. Where the
// signature's algorithm is one that is no longer verified, or never was here, the names and key identifiers decide (RFC 5280 sections
// 4.1.2.4 and 4.2.1.1).
func (c *Certificate) SignedBy(ca *Certificate) bool {
	if c.X509 == nil || ca.X509 == nil || !sameName(c.X509.RawIssuer, ca.X509.RawSubject) {
		return false
	}
	err := ca.X509.CheckSignature(c.X509.SignatureAlgorithm, c.X509.RawTBSCertificate, c.X509.Signature)
	var insecure x509.InsecureAlgorithmError
	if errors.As(err, &insecure) || errors.Is(err, x509.ErrUnsupportedAlgorithm) ||
		ca.X509.PublicKeyAlgorithm == x509.UnknownPublicKeyAlgorithm {
		return len(c.X509.AuthorityKeyId) == 0 || bytes.Equal(c.X509.AuthorityKeyId, ca.X509.SubjectKeyId)
	}
	return err == nil
}

// Unverified reports whether nobody can verify the certificate's signature here: its algorithm is not known.
func (c *Certificate) Unverified() bool {
	return c.X509 != nil && !c.SelfSigned && c.X509.SignatureAlgorithm == x509.UnknownSignatureAlgorithm
}

// Same reports whether two are one certificate.
func (c *Certificate) Same(d *Certificate) bool {
	return c.X509 != nil && d.X509 != nil && bytes.Equal(c.X509.Raw, d.X509.Raw)
}

// SameKey reports whether two certificates have one key and one subject: one was made again from the other.
func (c *Certificate) SameKey(d *Certificate) bool {
	return c.X509 != nil && d.X509 != nil && c.Subject == d.Subject &&
		bytes.Equal(c.X509.RawSubjectPublicKeyInfo, d.X509.RawSubjectPublicKeyInfo)
}

// loaded are the certificates of a gateway that the daemon of a connection takes from their files.
func (g *Gateway) loaded(c *Connection) []*Certificate {
	behind := func(x *Certificate) bool { return x.Behind }
	if !c.Daemon.Certs.FirstOnly || !slices.ContainsFunc(g.Certs, behind) {
		return g.Certs
	}
	return slices.DeleteFunc(slices.Clone(g.Certs), behind)
}

// NotTaken returns a certificate that a connection names for itself, and that its daemon does not take from its file; nil for none.
func (g *Gateway) NotTaken(c *Connection) *Certificate {
	files := c.Local.Certificates.Value
	if len(named(g.loaded(c), files)) > 0 {
		return nil
	}
	if all := named(g.Certs, files); len(all) > 0 {
		return all[0]
	}
	return nil
}

// named returns those of some certificates that a list of file names means.
func named(some []*Certificate, files []string) []*Certificate {
	var out []*Certificate
	for _, c := range some {
		if slices.ContainsFunc(files, func(n string) bool { return path.Base(n) == path.Base(c.At.File) }) {
			out = append(out, c)
		}
	}
	return out
}

// CertificatesOf returns the certificates that a connection shows its peer: those that it names, as far as they were given, or
// those that prove its own identity.
func (g *Gateway) CertificatesOf(c *Connection) []*Certificate {
	if names := c.Local.Certificates.Value; len(names) > 0 {
		return named(g.loaded(c), names)
	}
	if c.Local.Method.Value != ike.Certificate {
		return nil
	}
	var out []*Certificate
	for _, have := range g.loaded(c) {
		if have.Shows(c.Local.ID.Value) {
			out = append(out, have)
		}
	}
	return out
}

// Holds reports whether one of some certificates lies among the gateway's own.
func (g *Gateway) Holds(some []*Certificate) bool {
	return slices.ContainsFunc(some, func(c *Certificate) bool { return slices.ContainsFunc(g.Certs, c.Same) })
}
