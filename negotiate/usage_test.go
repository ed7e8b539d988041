package negotiate_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// signedPair is the attempts at a tunnel of a and b, whose certificates have one authority and allow the key of a a usage. More files are
// given by their paths.
func signedPair(t *testing.T, usage x509.KeyUsage, more fstest.MapFS) []negotiate.Attempt {
	return negotiate.Tunnel(signedTunnel(t, usage, more))
}

// signedTunnel is the tunnel itself.
func signedTunnel(t *testing.T, usage x509.KeyUsage, more fstest.MapFS) *pair.Tunnel {
	files := fstest.MapFS{}
	maps.Copy(files, more)
	var ca *x509.Certificate
	var signer crypto.Signer
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for i, name := range []string{"ca", "a.example", "b.example"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		template := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: name},
			NotBefore: begin, NotAfter: begin.AddDate(10, 0, 0), IsCA: i == 0, BasicConstraintsValid: true}
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
	return e.Tunnels[0]
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
			assert.NotContains(t, assumed, "within the day", "they are judged for no day")
			assert.NotContains(t, assumed, "certificates that name it", "which is shown is said")
		}
	}
}

// TestCertificatesOnADay: what is wrong on the day that is asked about.
func TestCertificatesOnADay(t *testing.T) {
	for day, why := range map[string]string{
		"2025-06-01": "holds only from 2026-01-01", "2026-06-01": "", "2036-06-01": "expired on 2036-01-01",
	} {
		tunnel := signedTunnel(t, 0, nil)
		for _, e := range tunnel.Ends {
			e.Gateway.Day, _ = time.Parse(time.DateOnly, day)
		}
		for _, a := range negotiate.Tunnel(tunnel) {
			if why == "" {
				assert.Equal(t, negotiate.Agrees, a.Outcome)
				continue
			}
			require.NotNil(t, a.Failure, day)
			assert.Contains(t, a.Failure.Why, why)
		}
	}
}

// TestACertificateThatIsNotTaken: the end that has it does not begin, and of its answers the peer hears that they are not authentic.
func TestACertificateThatIsNotTaken(t *testing.T) {
	tunnel := signedTunnel(t, 0, nil)
	for _, c := range tunnel.Ends[0].Gateway.Certs {
		c.Behind = c.Behind || !c.CA
	}
	for i, a := range negotiate.Tunnel(tunnel) {
		require.NotNil(t, a.Failure)
		assert.Contains(t, a.Failure.Why, "takes only the first block of a file")
		assert.Equal(t, i == 0, a.Failure.Notify == "", a.Initiator.Name())
	}
}

// TestDoubtsOfOtherConnections: what was not understood of a connection for another peer changes nothing.
func TestDoubtsOfOtherConnections(t *testing.T) {
	e, err := pair.WholeFS(context.Background(), fstest.MapFS{
		"a/swanctl.conf": {Data: []byte("connections {\n c {\n local_addrs = 192.0.2.1\n remote_addrs = 192.0.2.2\n }\n}\n")},
		"b/swanctl.conf": {Data: []byte("connections {\n c {\n local_addrs = 192.0.2.2\n remote_addrs = 192.0.2.1\n }\n" +
			" d {\n local_addrs = 192.0.2.2\n remote_addrs = 192.0.2.9\n }\n}\n")},
	}, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	tunnel := e.Tunnels[slices.IndexFunc(e.Tunnels, func(x *pair.Tunnel) bool { return len(x.Ends) == 2 })]
	b := e.Gateway("b")
	for i, unsure := range []bool{true, false} {
		c := b.Connections[i]
		before := c.Doubts
		c.Doubts.Add(&model.Doubt{Cause: model.NotRead, Gateway: "b", At: c.At, Why: "a word of it is not known"})
		a := negotiate.Tunnel(tunnel)[0]
		require.Equal(t, "a", a.Initiator.Gateway.Name)
		assert.Equal(t, unsure, strings.Contains(a.Unsure(), "a word of it is not known"), c.Name)
		c.Doubts = before
	}
}

// TestPublicKeysWithoutCertificates: what an end expects of its peer is compared with what that has, whichever way each is written.
func TestPublicKeysWithoutCertificates(t *testing.T) {
	keys := map[string]*rsa.PublicKey{}
	for _, who := range []string{"a", "b", "other"} {
		k, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		keys[who] = &k.PublicKey
	}
	raw := func(who string) string {
		k := keys[who]
		e := big.NewInt(int64(k.E)).Bytes()
		return "0s" + base64.StdEncoding.EncodeToString(slices.Concat([]byte{byte(len(e))}, e, k.N.Bytes()))
	}
	file := func(who string) *fstest.MapFile {
		der, err := x509.MarshalPKIXPublicKey(keys[who])
		require.NoError(t, err)
		return &fstest.MapFile{Data: pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})}
	}
	for _, c := range []struct {
		name, own, far string // what b has of its own key, and of the key of a; "" for nothing
		comes          negotiate.Outcome
		assumes        bool
	}{
		{"the same", "b", "a", negotiate.Agrees, false},
		{"another of the peer", "b", "other", negotiate.Fails, false},
		{"another of its own", "other", "a", negotiate.Fails, false},
		{"its own is not said", "", "a", negotiate.Agrees, true},
	} {
		own := ""
		if c.own != "" {
			own = "\tleftrsasigkey=" + raw(c.own) + "\n"
		}
		files := fstest.MapFS{
			"a/swanctl.conf": {Data: []byte("connections {\n c {\n  version = 2\n  local_addrs = 192.0.2.1\n  remote_addrs = 192.0.2.2\n" +
				"  proposals = aes256-sha256-modp2048\n  local {\n   auth = pubkey\n   pubkeys = own.pem\n   id = a.example\n  }\n" +
				"  remote {\n   auth = pubkey\n   pubkeys = far.pem\n   id = b.example\n  }\n  children {\n   k {\n" +
				"    local_ts = 10.1.0.0/16\n    remote_ts = 10.2.0.0/16\n    esp_proposals = aes256-sha256\n   }\n  }\n }\n}\n")},
			"a/pubkey/own.pem": file("a"), "a/pubkey/far.pem": file("b"),
			"b/ipsec.conf": {Data: []byte("conn c\n\tleft=192.0.2.2\n\tright=192.0.2.1\n\tleftid=@b.example\n\trightid=@a.example\n" +
				"\tleftsubnet=10.2.0.0/16\n\trightsubnet=10.1.0.0/16\n\tike=aes256-sha2;modp2048\n\tesp=aes256-sha2\n\tpfs=no\n" +
				"\tikev2=yes\n\tauthby=rsasig\n\tauto=add\n\trightrsasigkey=" + raw(c.far) + "\n" + own)},
		}
		e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		require.Empty(t, e.Problems)
		require.Len(t, e.Tunnels, 1)
		for _, a := range negotiate.Tunnel(e.Tunnels[0]) {
			assert.Equal(t, c.comes, a.Outcome, c.name)
			assert.Equal(t, c.assumes, strings.Contains(strings.Join(a.Assumes, "\n"), "was not compared"), "%s: %v", c.name, a.Assumes)
			if a.Failure != nil {
				assert.Equal(t, negotiate.Certificates, a.Failure.Topic, c.name)
				assert.Contains(t, a.Failure.Why, "does not have", c.name)
			}
		}
	}
}

// TestAChildThatPasses: strongSwan negotiates a child that is to let packets pass as one in tunnel mode; under IKEv1 an initiator has it in
// the mode that it is set to (asked of 5.9.8).
func TestAChildThatPasses(t *testing.T) {
	end := func(me, peer, version int, mode string) *fstest.MapFile {
		return &fstest.MapFile{Data: fmt.Appendf(nil, "connections {\n c {\n  version = %d\n  local_addrs = 192.0.2.%d\n"+
			"  remote_addrs = 192.0.2.%d\n  local {\n   auth = psk\n  }\n  remote {\n   auth = psk\n  }\n  children {\n   k {\n"+
			"    local_ts = 10.%d.0.0/16\n    remote_ts = 10.%d.0.0/16\n    %s\n   }\n  }\n }\n}\n"+
			"secrets {\n ike {\n  secret = quayside-lantern-of-the-eighth-tide\n }\n}\n", version, me, peer, me, peer, mode)}
	}
	for version, want := range map[int][2]ike.Mode{2: {ike.Tunnel, ike.Tunnel}, 1: {ike.Pass, ike.Tunnel}} {
		files := fstest.MapFS{"a/swanctl.conf": end(1, 2, version, "mode = pass"), "b/swanctl.conf": end(2, 1, version, "")}
		e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		require.Len(t, e.Tunnels, 1)
		for i, a := range negotiate.Tunnel(e.Tunnels[0]) {
			require.Len(t, a.Children, 1, "IKEv%d, %d", version, i)
			assert.Equal(t, negotiate.Agrees, a.Children[0].Outcome)
			assert.Equal(t, want[i], a.Children[0].Mode, "IKEv%d, %d", version, i)
		}
	}
}
