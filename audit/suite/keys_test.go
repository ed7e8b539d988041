package suite_test

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

// TestKeysThatAreBits: a key of 128 random bits, in either form, is worth them; one whose digits follow a pattern, or spell a text, is not.
func TestKeysThatAreBits(t *testing.T) {
	r := rand.New(rand.NewPCG(20261201, 200))
	var b strings.Builder
	b.WriteString("secrets {\n")
	for i := range 200 {
		key := make([]byte, 16)
		for n := range key {
			key[n] = byte(r.IntN(256))
		}
		text := "0x" + hex.EncodeToString(key)
		if i%2 == 0 {
			text = "0s" + base64.StdEncoding.EncodeToString(key)
		}
		fmt.Fprintf(&b, " ike-strong%d {\n  id = p%d\n  secret = %s\n }\n", i, i, text)
	}
	weak := []string{"0x00000000000000000000000000000000", "0x000102030405060708090a0b0c0d0e0f", "0x68617262",
		"0x" + hex.EncodeToString([]byte("password")), "0s" + base64.StdEncoding.EncodeToString([]byte("Summer2026!")),
		"0xdeadbeefdeadbeefdeadbeef"}
	for i, text := range weak {
		fmt.Fprintf(&b, " ike-weak%d {\n  id = q%d\n  secret = %s\n }\n", i, i, text)
	}
	b.WriteString("}\n")
	e, err := pair.WholeFS(context.Background(), fstest.MapFS{"a/swanctl.conf": {Data: []byte(b.String())}},
		estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	for _, name := range []string{"nist", "sound"} {
		with, err := baseline.Named(name)
		require.NoError(t, err)
		res, err := audit.Run(context.Background(), e.Estate, suite.All(), with, time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		found := map[string]bool{}
		for _, f := range res.Findings {
			if f.Check == "key/weak" {
				assert.NotContains(t, f.About, "strong", f.Message)
				found[f.About] = true
			}
		}
		assert.Len(t, found, len(weak), name)
	}
}
