package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// CertificateUntrusted speaks where an end does not trust who signed the certificate that the other shows.
var CertificateUntrusted = &audit.Check{
	Name:     "ends/certificate-untrusted",
	Title:    "An end does not trust the other's certificate",
	Severity: audit.High,
	Why:      "A certificate is worth nothing to a peer that does not know who signed it: authentication fails.",
	Fix:      "Install the certificate of the authority that signed the peer's certificate, on the end that does not trust it.",
	Doc: audit.Doc{
		What: "The certificate that one end shows is followed, signature by signature, to the authorities that the other trusts for " +
			"the connection, as far as both were given. A certificate that is named for the peer itself " +
			"must be the very same.",
		Harm: "After an authority changed its key, or was replaced by one of the same name, one end was forgotten: the log says " +
			"that authentication failed.",
		Write:   "remote { auth = pubkey  cacerts = ca.pem } with the certificate of the authority in x509ca/.",
		Sources: []string{"RFC 4945 section 5.1", "RFC 5280 section 6"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Certificates),
}
