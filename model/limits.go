package model

import (
	"bytes"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"slices"
	"strings"
)

// limited is whether a path of certificates, the peer's first, that leads to an authority keeps within what each authority on it may sign:
// the names (RFC 5280 section 4.2.1.10) and the length of the path (section 4.2.1.9); and whether no extension is critical that nobody
// knows (section 4.2). Only that is asked here: signatures and days are asked before.
func limited(path []*Certificate, anchor *Certificate) Trust {
	yes := Trust{Known: true, Trusted: true}
	all := append(slices.Clip(path), anchor)
	if !slices.ContainsFunc(all, (*Certificate).limits) {
		return yes
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	roots.AddCert(anchor.X509)
	for _, c := range path[1:] {
		between.AddCert(c.X509)
	}
	_, err := path[0].X509.Verify(x509.VerifyOptions{
		Roots: roots, Intermediates: between, CurrentTime: path[0].From, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
	})
	var invalid x509.CertificateInvalidError
	var critical x509.UnhandledCriticalExtension
	switch {
	case errors.As(err, &critical):
		return Trust{Known: true, Limits: "an extension of a certificate on the way is critical and not known"}
	case !errors.As(err, &invalid):
		return yes
	}
	switch invalid.Reason {
	case x509.CANotAuthorizedForThisName, x509.TooManyConstraints, x509.UnconstrainedName:
		return Trust{Known: true, Limits: "an authority on the way may not sign for the names of this certificate"}
	case x509.TooManyIntermediates:
		return Trust{Known: true, Limits: "an authority on the way may not have so many below it"}
	}
	return yes
}

// limits reports whether the certificate limits what those below it may be, or has a critical extension that is not known.
func (c *Certificate) limits() bool {
	x := c.X509
	return x != nil && (len(x.UnhandledCriticalExtensions) > 0 || x.MaxPathLen > 0 || x.MaxPathLenZero ||
		len(x.PermittedDNSDomains)+len(x.ExcludedDNSDomains)+len(x.PermittedIPRanges)+len(x.ExcludedIPRanges)+
			len(x.PermittedEmailAddresses)+len(x.ExcludedEmailAddresses)+len(x.PermittedURIDomains)+len(x.ExcludedURIDomains) > 0)
}

// sameName reports whether two distinguished names, in DER, are one: the same attributes in the same order, whatever types their strings
// are of, their case and their blanks (RFC 5280 section 7.1).
func sameName(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	var x, y pkix.RDNSequence
	if _, err := asn1.Unmarshal(a, &x); err != nil {
		return false
	}
	if _, err := asn1.Unmarshal(b, &y); err != nil {
		return false
	}
	alike := func(p, q pkix.AttributeTypeAndValue) bool {
		v, ok := p.Value.(string)
		w, also := q.Value.(string)
		folded := func(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }
		return p.Type.Equal(q.Type) && ok && also && folded(v) == folded(w)
	}
	return slices.EqualFunc(x, y, func(p, q pkix.RelativeDistinguishedNameSET) bool { return slices.EqualFunc(p, q, alike) })
}
