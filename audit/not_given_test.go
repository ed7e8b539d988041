package audit_test

import (
	"context"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

// TestWhatWasNotGiven: what a gateway's files leave out, and nothing that they hold.
func TestWhatWasNotGiven(t *testing.T) {
	const conf = "connections {\n  far {\n    remote_addrs = 192.0.2.2\n    local {\n      auth = AUTH\n    }\n    remote {\n" +
		"      auth = AUTH\n    }\n    children {\n      net {\n        remote_ts = 10.2.0.0/16\n      }\n    }\n  }\n}\n"
	const ip = "2: lan0: <UP> mtu 1500\n    inet 10.1.0.1/24 scope global lan0\n"
	const routes, rules = "10.9.0.0/16 dev lan0\n", "table ip f {\n}\n"
	const chain = "table ip f {\n  chain in {\n    type filter hook input priority 0;\n  }\n}\n"
	with := func(auth string) string { return strings.ReplaceAll(conf, "AUTH", auth) }
	for _, c := range []struct {
		name  string
		files map[string]string
		want  []string
	}{
		{"a connection alone", map[string]string{"swanctl.conf": with("psk")},
			[]string{"packet filter", "addresses", "routes", "far end: far", "pre-shared keys: far"}},
		{"with addresses", map[string]string{"swanctl.conf": with("psk"), "net.txt": ip},
			[]string{"packet filter", "routes", "far end: far", "pre-shared keys: far"}},
		{"with routes too", map[string]string{"swanctl.conf": with("psk"), "net.txt": ip + routes},
			[]string{"packet filter", "far end: far", "pre-shared keys: far"}},
		{"with a filter without chains", map[string]string{"swanctl.conf": with("psk"), "f.nft": rules},
			[]string{"addresses", "routes", "far end: far", "pre-shared keys: far"}},
		{"with a filter", map[string]string{"swanctl.conf": with("psk"), "f.nft": chain},
			[]string{"addresses", "routes", "far end: far", "pre-shared keys: far"}},
		{"with a key", map[string]string{"swanctl.conf": with("psk") + "secrets {\n  ike {\n    secret = \"some key\"\n  }\n}\n"},
			[]string{"packet filter", "addresses", "routes", "far end: far"}},
		{"with certificates", map[string]string{"swanctl.conf": with("pubkey")},
			[]string{"packet filter", "addresses", "routes", "far end: far", "own certificates: far", "certificates of authorities: far"}},
		{"no connection", map[string]string{"net.txt": ip}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			files := fstest.MapFS{}
			for name, text := range c.files {
				files["g/"+name] = &fstest.MapFile{Data: []byte(text)}
			}
			e, err := pair.LoadFS(context.Background(), files, estate.Options{Formats: formats.All()})
			require.NoError(t, err)
			require.Empty(t, e.Problems)
			b, err := baseline.Named("sound")
			require.NoError(t, err)
			r, err := audit.Run(context.Background(), e, nil, b, time.Now())
			require.NoError(t, err)
			var got []string
			for _, n := range r.NotGiven {
				assert.Equal(t, "g", n.Gateway)
				for _, a := range n.What {
					assert.NotEmpty(t, a.Unjudged)
					text := a.Thing
					if len(a.Of) > 0 {
						text += ": " + audit.List(a.Of)
					}
					got = append(got, text)
				}
			}
			assert.Equal(t, c.want, got)
		})
	}
}
