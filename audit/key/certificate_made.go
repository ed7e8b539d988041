package key

import (
	"crypto/rsa"
	"fmt"
	"time"

	"toril/audit"
	"toril/model"
)

// leastExponent is the least public exponent of RSA that FIPS 186-5 section A.1.1 allows: above 2^16.
const leastExponent = 1<<16 + 1

// SmallExponent reports where the public exponent of an RSA key is smaller than standards allow.
var SmallExponent = onEach(&audit.Check{
	Name:     "key/small-exponent",
	Title:    "The public exponent of an RSA key is too small",
	Severity: audit.Low,
	Why:      "With a small exponent, one slip in how a signature is checked is enough for a forged one to pass.",
	Fix:      "Generate a new key with the exponent 65537, which every program takes unless told otherwise, and a new certificate.",
	Doc: audit.Doc{
		What: "The public exponent of every RSA key in the certificates that lie beside the configuration is compared with the " +
			"least that FIPS 186-5 allows, 65537.",
		Harm: "Programs that read less of a signature than they should have been found again and again; forging one for them is a " +
			"matter of seconds where the exponent is 3.",
		Write:   "openssl genrsa 3072; then a certificate for it.",
		Sources: []string{"FIPS 186-5 section A.1.1", "RFC 8017 section 9.2"},
	},
}, func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool) {
	if c.X509 == nil {
		return f, false
	}
	key, is := c.X509.PublicKey.(*rsa.PublicKey)
	if !is || key.E >= leastExponent {
		return f, false
	}
	f = onCertificate(p, g, c)
	f.Measured, f.Required = fmt.Sprint(key.E), fmt.Sprintf("at least %d", leastExponent)
	f.Message = fmt.Sprintf("the public exponent of the RSA key of %s is %d, smaller than %d", c.Subject, key.E, leastExponent)
	return f, true
})

// longestYears is for how long a certificate that a gateway shows may hold before that is reported.
const longestYears = 20

// LongValidity reports where a certificate that is no authority's holds for decades.
var LongValidity = onEach(&audit.Check{
	Name:     "key/long-validity",
	Title:    "A certificate holds for decades",
	Severity: audit.Low,
	Why:      "A key that is stolen meanwhile is good until the certificate ends, or somebody thinks of a list of revoked ones.",
	Fix:      "Have certificates made for a year or two, and note when each one ends.",
	Doc: audit.Doc{
		What: "The time between the first and the last day of every certificate that is no authority's is compared with twenty years, by " +
			"Toril's judgement.",
		Harm:    "Its algorithms were chosen for today; nobody who made it will be there when it ends.",
		Write:   "openssl x509 -req -days 365 ..., at the authority.",
		Sources: []string{"RFC 5280 section 4.1.2.5"},
	},
}, func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool) {
	if c.CA || !c.To.After(c.From.AddDate(longestYears, 0, 1)) {
		return f, false
	}
	f = onCertificate(p, g, c)
	f.Message = fmt.Sprintf("the certificate of %s holds from %s to %s, for more than %d years", c.Subject,
		c.From.UTC().Format(time.DateOnly), c.To.UTC().Format(time.DateOnly), longestYears)
	return f, true
})
