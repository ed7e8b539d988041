package key

import (
	"crypto/sha256"
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
)

// CertificateShared reports where several gateways show certificates of one key.
var CertificateShared = &audit.Check{
	Name:     "key/certificate-shared",
	Title:    "Several gateways have one private key",
	Severity: audit.Low,
	Why:      "Each of them can pass for the others, and a key that one of them loses is lost for all.",
	Fix:      "Give each gateway a key and a certificate of its own; both of a failover pair can have the common name.",
	Doc: audit.Doc{
		What: "The public keys of the certificates that connections show their peers are compared between gateways. Both of a " +
			"failover pair may have one on purpose.",
		Harm:    "A private key was copied between devices, by mail or through a shared folder, and nobody knows where else it lies.",
		Write:   "A key that is made on each gateway, and never leaves it.",
		Sources: []string{"RFC 4945 section 5.1", "Toril's judgement"},
	},
	Keeps: audit.Keeping[faulty](),
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, c := range g.Certs {
			if c.X509 == nil || len(users(g, c)) == 0 {
				continue
			}
			f := onCertificate(p, g, c)
			f.At = p.Evidence(f.At.Pos, "")
			f.Also = nil
			f.Detach()
			p.Keep(faulty{sha256.Sum256(c.X509.RawSubjectPublicKeyInfo), f})
		}
	},
	Estate: func(p *audit.Pass) {
		of := map[[32]byte][]audit.Finding{}
		var order [][32]byte
		for _, kept := range p.Kept() {
			k := kept.(faulty)
			same := func(f audit.Finding) bool { return f.Gateway == k.Finding.Gateway }
			if slices.ContainsFunc(of[k.Print], same) {
				continue
			}
			if of[k.Print] == nil {
				order = append(order, k.Print)
			}
			of[k.Print] = append(of[k.Print], k.Finding)
		}
		for _, one := range order {
			all := of[one]
			if len(all) < 2 {
				continue
			}
			f := all[0]
			f.Message = fmt.Sprintf("%d gateways show certificates of one key: %s and %s", len(all), f.Gateway, all[1].Gateway)
			if len(all) > 2 {
				f.Message += " among them"
			}
			for _, o := range all[1:min(len(all), 6)] {
				o.At.Note = "the same key"
				f.Also = append(f.Also, o.At)
			}
			p.Report(f)
		}
	},
}
