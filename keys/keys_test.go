package keys_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/estate"
	"toril/keys"
	"toril/pair"
	"toril/present"
	"toril/read/formats"
)

var day = time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)

// stock takes stock of an estate in memory.
func stock(t *testing.T, fsys fstest.MapFS) present.Document {
	w, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, w.Problems)
	return keys.Of(w, day)
}

func part(d present.Document, name string) present.Part {
	for _, p := range d.Parts {
		if p.Name == name {
			return p
		}
	}
	return present.Part{}
}

// TestCertificates lists certificates with what they carry, and the chain that the far end does not trust.
func TestCertificates(t *testing.T) {
	ar, err := txtar.ParseFile("../audit/suite/testdata/trust.txtar")
	require.NoError(t, err)
	fsys := fstest.MapFS{}
	for _, f := range ar.Files {
		fsys[f.Name] = &fstest.MapFile{Data: f.Data}
	}
	d := stock(t, fsys)
	calendar := part(d, "certificates")
	require.NotEmpty(t, calendar.Rows)
	last := ""
	carried := map[string]string{}
	for _, r := range calendar.Rows {
		assert.LessOrEqual(t, last, r.Cells[0], "the first to expire first")
		last = r.Cells[0]
		carried[r.Name] = r.Cells[4]
	}
	assert.Equal(t, "glen/loch", carried["glen/x509/own.pem"])
	assert.Contains(t, carried["loch/x509ca/ca.pem"], "loch/glen (issuer)")
	trusted := map[string]string{}
	for _, r := range part(d, "chains").Rows {
		trusted[r.Name] = r.Cells[2]
	}
	assert.Equal(t, "yes", trusted["glen/loch"])
	assert.Contains(t, trusted["loch/glen"], "reaches no authority that glen trusts")
}

// end is a connection with a pre-shared key.
func end(me, peer, own, at, key string) string {
	return fmt.Sprintf("connections {\n %s {\n  version = 2\n  local_addrs = %s\n  remote_addrs = %s\n  local {\n   auth = psk\n   "+
		"id = %s.example\n  }\n"+
		"  remote {\n   auth = psk\n   id = %s.example\n  }\n }\n}\nsecrets {\n ike-x {\n  id = %s.example\n  secret = %q\n }\n}\n",
		peer, own, at, me, peer, peer, key)
}

// TestReuseAndRules groups keys without showing them, and judges them by the far ends' rules.
func TestReuseAndRules(t *testing.T) {
	const key = "oneKeyForAll7TideLamp39"
	d := stock(t, fstest.MapFS{
		"hub/swanctl.conf":  {Data: []byte(end("hub", "quay", "192.0.2.1", "192.0.2.2", key))},
		"quay/swanctl.conf": {Data: []byte(end("quay", "hub", "192.0.2.2", "192.0.2.1", key))},
		"isle/swanctl.conf": {Data: []byte(end("isle", "rock", "192.0.2.3", "192.0.2.4", key))},
		"toril.yaml": {Data: []byte("keys:\n- {partner: quay, least: 30}\n- {partner: hub, most: 40, characters: [letters, digits]}\n" +
			"- {partner: rock, forbids: T}\n")},
	})
	reuse := part(d, "reuse")
	require.Len(t, reuse.Rows, 1)
	assert.Contains(t, reuse.Rows[0].Cells[0], "hub and quay")
	assert.Equal(t, 3, strings.Count(reuse.Rows[0].Cells[1], "swanctl.conf:"))
	how := map[string]string{}
	for _, r := range part(d, "rules").Rows {
		how[r.Cells[1]] = r.Cells[2]
	}
	assert.Equal(t, "it has 23 characters; at least 30 are required", how["hub/quay"])
	assert.Equal(t, "fits", how["quay/hub"])
	assert.Equal(t, "it has characters that are forbidden", how["isle/rock"])
	assert.NotContains(t, fmt.Sprint(d), key)
}

// TestRulesForKeysAreStrict names what is wrong with a rule, and where.
func TestRulesForKeysAreStrict(t *testing.T) {
	for text, want := range map[string]string{
		"keys:\n- {least: 20}\n":                       "names its partner",
		"keys:\n- {partner: a, least: 20, most: 10}\n": "most is not less than least",
		"keys:\n- {partner: a, characters: [runes]}\n": "no kind of characters",
		"keys:\n- {partner: a, longest: 3}\n":          "unknown key",
	} {
		_, err := estate.ParseConfig("toril.yaml", []byte(text), formats.All(), nil)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
}
