package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// CertificateUntrusted reports where an end does not get the certificate of the other, or does not take it for what it shows.
var CertificateUntrusted = &audit.Check{
	Name:     "ends/certificate-untrusted",
	Title:    "An end does not get the other's certificate, or does not trust it",
	Severity: audit.High,
	Why: "A certificate is worth nothing to a peer that does not get it, that does not find the identity in it, or that does not know " +
		"who signed it: authentication fails.",
	Fix: "Have the certificate sent; have it name the identity that the end shows; install the certificate of the authority that " +
		"signed it on the end that does not trust it.",
	Doc: audit.Doc{
		What: "Whether an end sends its certificate, and whether the other asks for it, follows from the settings of both and from " +
			"their daemons: many send it only where they are asked, and some do not ask. The certificate is looked through for the " +
			"identity that the end shows, and followed, signature by signature, to the authorities that the other trusts for " +
			"the connection, as far as both were given. A certificate that is named for the peer itself " +
			"must be the very same.",
		Harm: "The tunnel comes up when one end begins, and not when the other does. Or an authority changed its key, or was replaced " +
			"by one of the same name, and one end was forgotten: the log says that authentication failed.",
		Write:   "remote { auth = pubkey  cacerts = ca.pem } with the certificate of the authority in x509ca/.",
		Sources: []string{"RFC 7296 sections 3.6 and 3.7", "RFC 4945 sections 3.1 and 5.1", "RFC 5280 section 6"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Certificates),
}
