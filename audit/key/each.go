package key

import (
	"crypto/sha256"

	"toril/audit"
	"toril/model"
)

// faulty is a certificate with which something is wrong.
type faulty struct {
	Print   [32]byte // of what is one wherever it lies: the certificate, or its key
	Finding audit.Finding
}

// onEach completes a check of certificates. Judge says what is wrong with one that a gateway has; what is wrong with one that several have,
// as with that of an authority, is one finding.
func onEach(c *audit.Check, judge func(p *audit.Pass, g *model.Gateway, c *model.Certificate) (f audit.Finding, ok bool)) *audit.Check {
	c.Keeps = audit.Keeping[faulty]()
	c.Gateway = func(p *audit.Pass, g *model.Gateway) {
		for _, cert := range g.Certs {
			f, ok := judge(p, g, cert)
			if !ok {
				continue
			}
			f.At = p.Evidence(f.At.Pos, "")
			for i, e := range f.Also {
				f.Also[i] = p.Evidence(e.Pos, e.Note)
			}
			f.Detach()
			one := sha256.Sum256([]byte(cert.At.File))
			if cert.X509 != nil {
				one = sha256.Sum256(cert.X509.Raw)
			}
			p.Keep(faulty{one, f})
		}
	}
	c.Estate = func(p *audit.Pass) {
		at := map[[32]byte]int{}
		var found []audit.Finding
		for _, kept := range p.Kept() {
			k := kept.(faulty)
			i, again := at[k.Print]
			if !again {
				at[k.Print] = len(found)
				found = append(found, k.Finding)
				continue
			}
			f, other := found[i], k.Finding
			if p.Severity(other) > p.Severity(f) || f.Connection == "" && other.Connection != "" { // where it is shown, it is at home
				f, other = other, f
			}
			other.At.Note = "the same certificate"
			f.Also = append(append(f.Also, other.At), other.Also...)
			found[i] = f
		}
		for _, f := range found {
			p.Report(f)
		}
	}
	return c
}
