// Package certificate reads X.509 certificates that lie beside a configuration, as PEM or DER, and notes private keys
// without looking into them.
package certificate

import (
	"bytes"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"net/netip"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/read"
	"toril/read/publickey"
	"toril/source"
)

// Format is the format of certificates and keys.
var Format = &read.Format{
	Name:     "certificate",
	Title:    "X.509 certificates as PEM or DER; private keys are noted and not looked into",
	Software: "any",
	About:    model.AboutCertificates | model.AboutKeys,
	Hints:    []string{"*.pem", "*.crt", "*.cer", "*.der", "*.key", "*.crl"},
	Binary:   true,
	Order:    40,
	Looks:    looks,
	Read:     readFile,
	Covers: read.Rows(
		read.Coverage{
			Statement: "subject, issuer, alternative names, validity, key, signature algorithm, key usages, name constraints",
			Use:       read.Used,
		},
		read.Coverage{
			Statement: "private keys, encrypted or not",
			Use:       read.Used,
			Note:      "that one is there; its content is hidden and not read",
		},
		read.Coverage{
			Statement: "lists of revoked certificates (CRL)",
			Use:       read.Used,
			Note:      "whose certificates are on them, and until when they hold",
		},
		read.Coverage{Statement: "public keys without a certificate", Use: read.Used, Note: "as PEM"},
		read.Coverage{Statement: "requests, policies", Use: read.Irrelevant},
	),
}

func looks(f *source.File) (int, string) {
	data := f.Bytes()[:min(len(f.Bytes()), 64<<10)]
	switch {
	case bytes.Contains(data, []byte("-----BEGIN ")):
		return 90, "it holds a block that begins with -----BEGIN"
	case len(data) > 4 && data[0] == 0x30 && 0x81 <= data[1] && data[1] <= 0x84: // a DER sequence of 128 bytes or more
		if _, err := parse(f.Bytes()); err == nil {
			return 90, "it is a certificate in DER"
		}
		if _, err := x509.ParseRevocationList(f.Bytes()); err == nil {
			return 90, "it is a list of revoked certificates in DER"
		}
	}
	return 0, ""
}

func readFile(in *read.Input) {
	data := in.File.Bytes()
	if !bytes.Contains(data, []byte("-----BEGIN ")) {
		if list(in, 1, data) != nil {
			one(in, 1, data, in.File.Marked())
		}
		return
	}
	behind := in.File.Marked()
	for offset := 0; ; behind = true {
		begin := bytes.Index(data[offset:], []byte("-----BEGIN "))
		if begin < 0 {
			return
		}
		line := in.File.LineAt(offset + begin)
		block, rest := pem.Decode(data[offset+begin:])
		if block == nil {
			in.Lost(in.At(line), "a PEM block begins here that is damaged")
			return
		}
		offset = len(data) - len(rest)
		switch {
		case block.Type == "CERTIFICATE" || block.Type == "X509 CERTIFICATE" || block.Type == "TRUSTED CERTIFICATE":
			one(in, line, block.Bytes, behind)
		case strings.HasSuffix(block.Type, "PRIVATE KEY"):
			in.Count()
			in.Gateway.PrivateKeys = append(in.Gateway.PrivateKeys, in.At(line))
			for n := line + 1; n < in.File.LineAt(offset-1); n++ {
				in.File.Hide(n, in.File.Line(n))
			}
		case strings.HasSuffix(block.Type, "CRL"):
			if err := list(in, line, block.Bytes); err != nil {
				in.Lost(in.At(line), "the list of revoked certificates cannot be read: %v", err)
			}
		case strings.HasSuffix(block.Type, "PUBLIC KEY"):
			key, err := publickey.FromDER(block.Bytes, in.At(line))
			if err != nil {
				in.Lost(in.At(line), "the public key cannot be read: %v", err)
				continue
			}
			in.Count()
			in.Gateway.PublicKeys = append(in.Gateway.PublicKeys, key)
		case strings.HasSuffix(block.Type, "REQUEST"):
			in.Count()
		default:
			in.Unread(in.At(line), read.Owner{}, "%q is not a known kind of block", source.Clean(block.Type))
		}
	}
}

// list reads a list of revoked certificates; the error is that it is none.
func list(in *read.Input, line int, der []byte) error {
	l, err := x509.ParseRevocationList(der)
	if err != nil {
		return err
	}
	in.Count()
	in.Gateway.Revocations = append(in.Gateway.Revocations, model.NewRevocations(in.At(line), ike.DN(distinguished(l.Issuer)), l))
	return nil
}

// one reads a certificate; behind is as in model.Certificate.
func one(in *read.Input, line int, der []byte, behind bool) {
	c, err := parse(der)
	if err != nil {
		in.Lost(in.At(line), "the certificate cannot be read: %v", err)
		return
	}
	in.Count()
	g := &model.Certificate{
		At:         in.At(line),
		Subject:    ike.DN(distinguished(c.Subject)),
		Issuer:     ike.DN(distinguished(c.Issuer)),
		X509:       c,
		From:       c.NotBefore,
		To:         c.NotAfter,
		CA:         c.IsCA,
		Signature:  c.SignatureAlgorithm.String(),
		SelfSigned: bytes.Equal(c.RawIssuer, c.RawSubject),
		Signs:      true,
		ForIKE:     true,
		Behind:     behind,
	}
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		g.WeakHash = true
	}
	for _, name := range c.DNSNames {
		g.Names = append(g.Names, ike.FQDN(name))
	}
	for _, mail := range c.EmailAddresses {
		g.Names = append(g.Names, ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(mail)})
	}
	for _, ip := range c.IPAddresses {
		if a, ok := netip.AddrFromSlice(ip); ok {
			g.Names = append(g.Names, ike.Addr(a.Unmap()))
		}
	}
	g.KeyType, g.KeyBits = publickey.Kind(c.PublicKey, c.RawSubjectPublicKeyInfo)
	if c.KeyUsage != 0 {
		g.Signs = c.KeyUsage&(x509.KeyUsageDigitalSignature|x509.KeyUsageContentCommitment) != 0
	}
	if len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) > 0 {
		g.ForIKE = false
		for _, u := range c.ExtKeyUsage {
			g.ForIKE = g.ForIKE || u == x509.ExtKeyUsageAny || u == x509.ExtKeyUsageServerAuth || u == x509.ExtKeyUsageClientAuth ||
				u == x509.ExtKeyUsageIPSECEndSystem ||
				u == x509.ExtKeyUsageIPSECTunnel ||
				u == x509.ExtKeyUsageIPSECUser
		}
		for _, u := range c.UnknownExtKeyUsage {
			g.ForIKE = g.ForIKE || u.Equal(ipsecIKE) || u.Equal(ikeIntermediate)
		}
	}
	in.Gateway.Certs = append(in.Gateway.Certs, g)
}

// Key purposes of IKE: id-kp-ipsecIKE (RFC 4945 section 5.1.3.12), and the one that was used before it.
var (
	ipsecIKE        = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 17}
	ikeIntermediate = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 8, 2, 2}
)

// attributes are the short names of the parts of a distinguished name, as daemons write them.
var attributes = map[string]string{
	"2.5.4.3":                    "CN",
	"2.5.4.5":                    "serialNumber",
	"2.5.4.6":                    "C",
	"2.5.4.7":                    "L",
	"2.5.4.8":                    "ST",
	"2.5.4.10":                   "O",
	"2.5.4.11":                   "OU",
	"1.2.840.113549.1.9.1":       "E",
	"0.9.2342.19200300.100.1.25": "DC",
	"0.9.2342.19200300.100.1.1":  "UID",
}

func distinguished(n pkix.Name) string {
	var parts []string
	for _, a := range n.Names { // in the order in which they stand in the certificate
		key := attributes[a.Type.String()]
		if key == "" {
			key = a.Type.String()
		}
		value := fmt.Sprint(a.Value)
		parts = append(parts, key+"="+strings.NewReplacer(`\`, `\\`, `,`, `\,`, `"`, `\"`).Replace(value))
	}
	return strings.Join(parts, ", ")
}
