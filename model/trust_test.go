package model_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/source"
)

// issued is a certificate with its key.
type issued struct {
	*model.Certificate
	key crypto.Signer
}

func issue(t *testing.T, name string, by *issued, usage x509.KeyUsage) *issued {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(int64(len(name)) + 7), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now(), NotAfter: time.Now().AddDate(1, 0, 0), KeyUsage: usage, IsCA: by == nil, BasicConstraintsValid: true}
	parent, signer := template, crypto.Signer(key)
	if by != nil {
		parent, signer = by.X509, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, key.Public(), signer)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &issued{&model.Certificate{Subject: ike.DN("CN=" + name), CA: by == nil, SelfSigned: by == nil, X509: cert}, key}
}

func list(t *testing.T, by *issued, at time.Time, revoked ...*issued) *model.Revocations {
	l := &x509.RevocationList{Number: big.NewInt(at.Unix()), ThisUpdate: at, NextUpdate: at.AddDate(0, 1, 0)}
	for _, c := range revoked {
		l.RevokedCertificateEntries = append(l.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: c.X509.SerialNumber, RevocationTime: at})
	}
	signer := *by.X509
	signer.KeyUsage |= x509.KeyUsageCRLSign
	der, err := x509.CreateRevocationList(rand.Reader, l, &signer, by.key)
	require.NoError(t, err)
	parsed, err := x509.ParseRevocationList(der)
	require.NoError(t, err)
	return model.NewRevocations(source.Pos{File: "l"}, by.Subject, parsed)
}

// TestOfListsTheNewestCounts, and one that another signed in the authority's name does not. A key signs whatever its usage says.
func TestOfListsTheNewestCounts(t *testing.T) {
	ca, impostor := issue(t, "ca", nil, x509.KeyUsageDigitalSignature), issue(t, "ca", nil, 0)
	peer := issue(t, "peer", ca, x509.KeyUsageDigitalSignature)
	assert.True(t, peer.SignedBy(ca.Certificate), "though its usage is for no certificates")
	assert.False(t, peer.SignedBy(impostor.Certificate))
	day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	trusts := func(lists ...*model.Revocations) model.Trust {
		g := &model.Gateway{Name: "g", Certs: []*model.Certificate{ca.Certificate}, Revocations: lists}
		c := &model.Connection{Daemon: model.Daemon{Name: "x"}}
		return g.Trusts(c, peer.Certificate, &model.Gateway{}, &model.Connection{})
	}
	assert.True(t, trusts().Trusted)
	assert.False(t, trusts(list(t, ca, day, peer)).Trusted)
	assert.True(t, trusts(list(t, ca, day, peer), list(t, ca, day.AddDate(0, 0, 3))).Trusted, "it is no longer revoked")
	assert.False(t, trusts(list(t, ca, day.AddDate(0, 0, 3), peer), list(t, ca, day)).Trusted)
	assert.True(t, trusts(list(t, impostor, day, peer)).Trusted, "forged")
}
