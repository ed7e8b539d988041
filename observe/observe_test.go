package observe_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/observe"
	"toril/pair"
	"toril/read/formats"
)

const recorded = "../audit/observed/testdata/recorded"

func views(t *testing.T, scenario string) []observe.View {
	fsys := os.DirFS(filepath.Join(recorded, scenario, "estate"))
	w, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	return observe.Views(w)
}

// row is what was seen of a child of a gateway's.
func row(t *testing.T, v observe.View, gateway, what string) observe.Row {
	for _, e := range v.Ends {
		for _, r := range e.Rows {
			if e.Gateway.Name == gateway && r.What == what {
				return r
			}
		}
	}
	require.Fail(t, "no row", "%s %s", gateway, what)
	return observe.Row{}
}

func TestViews(t *testing.T) {
	up := views(t, "up")
	require.Len(t, up, 1)
	depot := row(t, up[0], "lampwright", "depot")
	assert.True(t, depot.Up())
	assert.Empty(t, depot.Otherwise)
	assert.Empty(t, depot.Missing)
	assert.Empty(t, depot.Words)
	assert.Equal(t, "252 bytes, 3 packets", observe.Counted(depot.In))
	assert.Equal(t, "no packet yet", row(t, up[0], "lampwright", "tools").Words)

	assert.Equal(t, "one way: nothing comes back", row(t, views(t, "one-way")[0], "lampwright", "depot").Words)
	assert.Equal(t, "one way: nothing is sent", row(t, views(t, "one-way")[0], "buoyyard", "depot").Words)
	assert.Equal(t, "10.10.0.0/16", row(t, views(t, "narrowed")[0], "lampwright", "depot").Missing)
	assert.Equal(t, "10.40.2.0/24", row(t, views(t, "not-loaded")[0], "lampwright", "depot").Missing)
	assert.Equal(t, "not up", row(t, views(t, "proposals")[0], "buoyyard", "depot").State)
	libre := row(t, views(t, "libreswan-up")[0], "buoyyard", "depot")
	assert.True(t, libre.Up())
	assert.Equal(t, "ESP AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits", libre.Suite)
}

// TestStatusWithoutConfiguration shows what is in no file, and all of a gateway of which only status was given.
func TestStatusWithoutConfiguration(t *testing.T) {
	data, err := os.ReadFile(filepath.Join(recorded, "up", "estate", "lampwright", "list-sas.txt"))
	require.NoError(t, err)
	w, err := pair.WholeFS(context.Background(), fstest.MapFS{"g/list-sas.txt": {Data: data}}, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	loose := observe.LooseOf(w)
	require.Len(t, loose, 1)
	var names []string
	for _, r := range loose[0].Rows {
		names = append(names, r.What)
	}
	assert.Equal(t, []string{"buoyyard IKE SA", "depot", "tools"}, names)
}

func TestFits(t *testing.T) {
	suite := func(cs ...ike.Choice) ike.Suite {
		s := ike.Suite{Protocol: ike.ESP}
		for _, c := range cs {
			s.Transforms[c.Registry] = c
		}
		return s
	}
	gcm, cbc, sha := ike.Pick(ike.Encryption, 20, 256), ike.Pick(ike.Encryption, 12, 256), ike.Pick(ike.Integrity, 12, 0)
	group := ike.Pick(ike.KeyExchange, 20, 0)
	assert.True(t, observe.Fits(suite(gcm), []ike.Suite{suite(gcm, group)}), "the first child of an IKE SA tells no key exchange")
	assert.True(t, observe.Fits(suite(cbc, sha), []ike.Suite{suite(gcm), suite(cbc, sha)}))
	assert.False(t, observe.Fits(suite(gcm), []ike.Suite{suite(cbc, sha)}))
	assert.False(t, observe.Fits(suite(cbc, sha), []ike.Suite{suite(cbc)}))
	offer := ike.Proposal{Protocol: ike.ESP}
	offer.Transforms[ike.Encryption] = ike.Choices{gcm}
	assert.True(t, observe.Offered(suite(gcm), []ike.Proposal{offer}))
	assert.False(t, observe.Offered(suite(cbc, sha), []ike.Proposal{offer}))
}

func TestFailuresInWords(t *testing.T) {
	for want, f := range map[string]model.Failure{
		"NO_PROPOSAL_CHOSEN sent: the IKE proposals do not " +
			"match, 3 times": {Notify: "NO_PROPOSAL_CHOSEN", Sent: true, What: "the IKE proposals", Times: 3},
		"rekeying failed: NO_PROPOSAL_CHOSEN received": {Notify: "NO_PROPOSAL_CHOSEN", What: "the child SA", Rekey: true},
		"no answer": {What: "no answer"},
		"NO_PROPOSAL_CHOSEN sent: no connection " +
			"for this peer": {Notify: "NO_PROPOSAL_CHOSEN", Sent: true, What: "no connection for this peer"},
	} {
		assert.Equal(t, want, observe.FailureText(&f))
	}
}
