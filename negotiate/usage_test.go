package negotiate_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"maps"
	"math/big"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// signedPair is the attempts at a tunnel of a and b, whose certificates have one authority and allow the key of a a usage. More files are
// given by their paths.
func signedPair(t *testing.T, usage x509.KeyUsage, more fstest.MapFS) []negotiate.Attempt {
	files := fstest.MapFS{}
	maps.Copy(files, more)
	var ca *x509.Certificate
	var signer crypto.Signer
	for i, name := range []string{"ca", "a.example", "b.example"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		template := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: name},
			NotBefore: time.Now(), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: i == 0, BasicConstraintsValid: true}
		if i > 0 {
			template.DNSNames = []string{name}
		}
		if i == 1 {
			template.KeyUsage = usage
		}
		parent, by := ca, signer
		if i == 0 {
			parent, by = template, key
		}
		der, err := x509.CreateCertificate(rand.Reader, template, parent, key.Public(), by)
		require.NoError(t, err)
		file := &fstest.MapFile{Data: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})}
		if i == 0 {
			ca, err = x509.ParseCertificate(der)
			require.NoError(t, err)
			signer = key
			files["a/x509ca/ca.pem"], files["b/x509ca/ca.pem"] = file, file
			continue
		}
		own, far := []string{"a", "b"}[i-1], []string{"b", "a"}[i-1]
		files[own+"/x509/own.pem"] = file
		files[own+"/swanctl.conf"] = &fstest.MapFile{
			Data: fmt.Appendf(nil, "connections {\n c {\n  version = 2\n  local_addrs = 192.0.2.%d\n"+
				"  remote_addrs = 192.0.2.%d\n  local {\n   auth = pubkey\n   certs = own.pem\n   id = %s.example\n  }\n  remote {\n"+
				"   auth = pubkey\n   id = %s.example\n  }\n  children {\n   k {\n    local_ts = 10.%d.0.0/16\n    remote_ts = 10.%d.0.0/16\n"+
				"   }\n  }\n }\n}\n", i, 3-i, own, far, i, 3-i),
		}
	}
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Len(t, e.Tunnels, 1)
	return negotiate.Tunnel(e.Tunnels[0])
}

// TestAKeyThatIsNotForSignatures: strongSwan takes no signature of a key whose usage does not allow it (asked of 5.9.8).
func TestAKeyThatIsNotForSignatures(t *testing.T) {
	for usage, comes := range map[x509.KeyUsage]negotiate.Outcome{
		x509.KeyUsageDigitalSignature: negotiate.Agrees, x509.KeyUsageKeyEncipherment: negotiate.Fails, 0: negotiate.Agrees,
	} {
		for _, a := range signedPair(t, usage, nil) {
			assert.Equal(t, comes, a.Outcome, "%d", usage)
			if a.Failure != nil {
				assert.Contains(t, a.Failure.Why, "the key usage of the certificate of a does not allow signatures")
			}
		}
	}
}

// TestWhosePrivateKeysWereGiven: saved configurations have no private keys, as a rule. Where those of one end are among the files, they
// are missed at the other.
func TestWhosePrivateKeysWereGiven(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	file := &fstest.MapFile{Data: pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})}
	for _, c := range []struct{ a, b bool }{{false, false}, {true, false}, {false, true}, {true, true}} {
		files := fstest.MapFS{}
		if c.a {
			files["a/private/own.pem"] = file
		}
		if c.b {
			files["b/private/own.pem"] = file
		}
		for _, a := range signedPair(t, 0, files) {
			assert.Equal(t, negotiate.Agrees, a.Outcome)
			assumed := strings.Join(a.Assumes, "\n")
			missed := func(of string) bool {
				return strings.Contains(assumed, "the private key of the certificate of CN="+of+".example was not given")
			}
			assert.Equal(t, c.b && !c.a, missed("a"), assumed)
			assert.Equal(t, c.a && !c.b, missed("b"), assumed)
			assert.NotContains(t, assumed, "cannot be verified here")
		}
	}
}
