package publickey_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"math/big"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/read/publickey"
	"toril/source"
)

// rfc3110 writes a key as RFC 3110 section 2 has it: the length of the exponent in one byte, or a zero and two bytes.
func rfc3110(k *rsa.PublicKey, long bool) []byte {
	e := big.NewInt(int64(k.E)).Bytes()
	length := []byte{byte(len(e))}
	if long {
		length = []byte{0, 0, byte(len(e))}
	}
	return slices.Concat(length, e, k.N.Bytes())
}

// TestOneKeyInAllItsForms: however a key is written, it is the same key.
func TestOneKeyInAllItsForms(t *testing.T) {
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	k := &private.PublicKey
	spki, err := x509.MarshalPKIXPublicKey(k)
	require.NoError(t, err)
	b64 := base64.StdEncoding.EncodeToString
	for name, text := range map[string]string{
		"RFC 3110":                    "0s" + b64(rfc3110(k, false)),
		"RFC 3110 with a long length": "0s" + b64(rfc3110(k, true)),
		"RFC 3110 in hexadecimal":     "0x" + hex.EncodeToString(rfc3110(k, false)),
		"with blanks":                 "0s" + b64(rfc3110(k, false))[:80] + " " + b64(rfc3110(k, false))[80:],
		"DER":                         "0s" + b64(spki),
		"DER behind nothing":          b64(spki),
		"DER of RSA alone":            "0s" + b64(x509.MarshalPKCS1PublicKey(k)),
	} {
		got, err := publickey.FromText(text, source.Pos{File: "ipsec.conf", Line: 3})
		require.NoError(t, err, name)
		assert.Equal(t, "RSA", got.KeyType, name)
		assert.Equal(t, 2048, got.KeyBits, name)
		assert.Equal(t, spki, got.Info, name)
		assert.Equal(t, 3, got.At.Line, name)
	}
	ec, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(ec.Public())
	require.NoError(t, err)
	got, err := publickey.FromText("0s"+b64(der), source.Pos{})
	require.NoError(t, err)
	assert.Equal(t, "ECDSA", got.KeyType)
	assert.Equal(t, 384, got.KeyBits)
}

func TestWhatIsNoKey(t *testing.T) {
	for _, text := range []string{
		"", "0s", "0x", "0xzz", "0s!!!!", "0sAQID", "0x000000", "0x00ffff0102", "0x10" + strings.Repeat("01", 8), "own.pem",
		"0x08" + strings.Repeat("ff", 300), // an exponent of 64 bits
	} {
		_, err := publickey.FromText(text, source.Pos{})
		assert.Error(t, err, text)
	}
}

func FuzzText(f *testing.F) {
	f.Add("0sAwEAAQ==")
	f.Add("0x030100010203")
	f.Fuzz(func(t *testing.T, text string) {
		k, err := publickey.FromText(text, source.Pos{})
		if err == nil && (len(k.Info) == 0 || k.KeyType == "") {
			t.Errorf("%q is a key of no type", text)
		}
	})
}
