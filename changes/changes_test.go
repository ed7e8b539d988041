package changes_test

import (
	"context"
	"io/fs"
	"maps"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/changes"
	"toril/demo"
	"toril/estate"
	"toril/model/settings"
	"toril/pair"
	"toril/read/formats"
)

func side(t *testing.T, name string, fsys fs.FS) *changes.Side {
	t.Helper()
	w, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, w.Problems)
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), w.Estate, suite.All(), b, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return changes.Of(name, r, w)
}

// files are those of the demonstration estate, to be changed.
func files(t *testing.T) fstest.MapFS {
	t.Helper()
	out := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(demo.Estate(), ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			var data []byte
			if data, err = fs.ReadFile(demo.Estate(), name); err == nil {
				out[name] = &fstest.MapFile{Data: data}
			}
		}
		return err
	}))
	return out
}

// edit replaces a text in a file, which must be there.
func edit(t *testing.T, in fstest.MapFS, name, old, now string) {
	t.Helper()
	require.Contains(t, string(in[name].Data), old, name)
	in[name] = &fstest.MapFile{Data: []byte(strings.Replace(string(in[name].Data), old, now, 1))}
}

func says(list []changes.Change) (out []string) {
	for _, c := range list {
		out = append(out, c.Subject+": "+c.Says)
	}
	return out
}

func TestWhatChangesInMeaningIsSaid(t *testing.T) {
	before := side(t, "old", demo.Estate())
	for name, c := range map[string]struct {
		file, old, now string
		want           []string // of meanings
		tunnels        []string
		added, gone    []string // checks
	}{
		"a comment and blanks are no change": {
			"skerry/swanctl.conf", "connections {", "# a comment\n\nconnections   {\n", nil, nil, nil, nil},
		"PFS": {"skerry/swanctl.conf", "esp_proposals = aes256gcm16-ecp384", "esp_proposals = aes256gcm16",
			[]string{"skerry/headland/lights: PFS removed; it was group 20 (NIST P-384)"},
			[]string{"headland/skerry <> skerry/headland: comes up → comes up, dies after 1 h"},
			[]string{"ends/pfs-differs", "pfs/absent"}, nil},
		"a group": {"lampwright/swanctl.conf", "3des-sha1-modp1024", "3des-sha1-modp2048",
			[]string{"lampwright/buoyyard: IKE proposals: 3DES / HMAC-SHA1 cut to 96 bits / HMAC-SHA1 / group 2 (MODP 1024) → " +
				"3DES / HMAC-SHA1 cut to 96 bits / HMAC-SHA1 / group 14 (MODP 2048)"},
			[]string{"buoyyard/lampwright <> lampwright/buoyyard: comes up · leaks → never comes up · leaks"},
			[]string{"ends/proposals-differ"}, nil},
		"a lifetime in other words": {"lampwright/swanctl.conf", "rekey_time = 48h", "rekey_time = 2d", nil, nil, nil, nil},
		"a lifetime": {"lampwright/swanctl.conf", "rekey_time = 48h", "rekey_time = 1h",
			[]string{"lampwright/quayside: IKE lifetime: 2 d → 1 h"}, nil, nil,
			[]string{"life/ike-too-long", "ends/lifetimes-differ"}},
		"an address": {"quayside/ip-address.txt", "172.16.50.1/24", "172.16.50.2/24",
			[]string{"quayside: address added: 172.16.50.2/24 on office",
				"quayside: address removed: 172.16.50.1/24 on office"}, nil, nil, nil},
		"a key": {"skerry/swanctl.conf", `secret = "h`, `secret = "k`, []string{"skerry/headland: pre-shared key changed"}, nil, nil, nil},
		"a rule": {"headland/nftables.conf", "ct state established,related accept",
			"ct state established,related accept\n        ip saddr 10.8.0.0/16 tcp dport 3389 accept",
			[]string{"headland: input now also allows"}, nil, nil, nil},
	} {
		t.Run(name, func(t *testing.T) {
			fsys := files(t)
			edit(t, fsys, c.file, c.old, c.now)
			d := changes.Compare(before, side(t, "new", fsys), settings.All())
			got := strings.Join(says(d.Meaning), "\n")
			for _, want := range c.want {
				assert.Contains(t, got, want)
			}
			if c.want == nil {
				assert.Empty(t, d.Meaning)
			}
			if c.tunnels != nil || c.want == nil {
				assert.Equal(t, c.tunnels, says(d.Tunnels))
			}
			checks := func(list []changes.Finding) map[string]bool {
				out := map[string]bool{}
				for _, f := range list {
					out[f.Check] = true
				}
				return out
			}
			for _, want := range c.added {
				assert.Contains(t, checks(d.Added), want)
			}
			for _, want := range c.gone {
				assert.Contains(t, checks(d.Gone), want)
			}
			assert.Equal(t, c.want != nil || len(d.Added)+len(d.Gone) > 0, d.Any())
		})
	}
}

func TestThingsComeAndGo(t *testing.T) {
	fsys := files(t)
	maps.DeleteFunc(fsys, func(name string, _ *fstest.MapFile) bool { return strings.HasPrefix(name, "skerry/") })
	whole, part := side(t, "whole", demo.Estate()), side(t, "part", fsys)
	d := changes.Compare(whole, part, settings.All())
	assert.Contains(t, says(d.Meaning), "skerry: gateway removed")
	assert.Contains(t, says(d.Tunnels), "headland/skerry <> skerry/headland: tunnel removed")
	back := changes.Compare(part, whole, settings.All())
	assert.Contains(t, says(back.Meaning), "skerry: gateway added")
	assert.Contains(t, says(back.Tunnels), "headland/skerry <> skerry/headland: tunnel added: comes up")
	assert.Equal(t, len(d.Added), len(back.Gone))
	assert.Equal(t, len(d.Gone), len(back.Added))
	fsys = files(t)
	edit(t, fsys, "lampwright/swanctl.conf", "tides {", "ebbs {")
	got := says(changes.Compare(whole, side(t, "renamed", fsys), settings.All()).Meaning)
	assert.Contains(t, strings.Join(got, "\n"), "lampwright/quayside/ebbs: child added: 10.10.0.0/24, 10.10.1.0/24 to 172.16.50.0/24")
	assert.Contains(t, strings.Join(got, "\n"), "lampwright/quayside/tides: child removed")
}

// TestPacketsAreCompared: what filters allow and translate is compared as sets, so that a rule in other words is no change.
func TestPacketsAreCompared(t *testing.T) {
	ruleset := func(forward, post string) fstest.MapFS {
		return fstest.MapFS{
			"g/rules.nft": {
				Data: []byte("table inet f {\n chain forward {\n  type filter hook forward priority 0; policy drop;\n" + forward +
					" }\n chain post {\n  type nat hook postrouting priority 100; policy accept;\n" + post + " }\n}\n"),
			},
		}
	}
	base := "  ip saddr 10.1.0.0/16 tcp dport 443 accept\n"
	before := side(t, "old", ruleset(base, ""))
	for now, want := range map[string][]string{
		base: nil,
		"  ip saddr 10.1.0.0/17 tcp dport 443 accept\n  ip saddr 10.1.128.0/17 tcp dport 443 accept\n": nil,
		base + "  ip saddr 10.8.0.0/16 tcp dport 3389 accept\n":                                        {"g: forward now also allows 10.8.0.0/16 > any tcp port 3389"},
		"  ip saddr 10.1.0.0/17 tcp dport 443 accept\n":                                                {"g: forward no longer allows 10.1.128.0/17 > any tcp port 443"},
		"  ip saddr 10.1.0.9 drop\n" + base:                                                            {"g: forward no longer allows 10.1.0.9 > any tcp port 443"},
	} {
		got := says(changes.Compare(before, side(t, "new", ruleset(now, "")), settings.All()).Meaning)
		assert.Equal(t, want, got, now)
	}
	got := says(
		changes.Compare(
			before,
			side(t, "new", ruleset(base, "  ip saddr 10.1.0.0/16 oifname \"wan\" masquerade\n")),
			settings.All(),
		).Meaning,
	)
	require.Len(t, got, 1)
	assert.Contains(t, got[0], "g: source NAT now also translates 10.1.0.0/16 > any out via wan")
}

func TestReportsAreRead(t *testing.T) {
	for text, want := range map[string]string{
		"{":                           "is no report",
		`{"schema": "toril-ends/1"}`:  "its schema is not toril-audit/2",
		`{"schema": "toril-audit/2"}`: "",
		`{"schema": "toril-audit/2", "findings": [{"id": "1", "check": "a/b", "severity": "high", "gateway": "g", "message": "it is so"}]}`: "",
	} {
		s, err := changes.Report("r.json", []byte(text))
		if want != "" {
			assert.ErrorContains(t, err, want, text)
			continue
		}
		require.NoError(t, err)
		d := changes.Compare(s, s, settings.All())
		assert.False(t, d.Any())
		assert.False(t, d.Compared)
	}
	empty, err := changes.Report("r.json", []byte(`{"schema": "toril-audit/2"}`))
	require.NoError(t, err)
	one, err := changes.Report("r.json", []byte(`{"schema": "toril-audit/2", "findings": [`+
		`{"id": "1", "check": "a/b", "severity": "low", "gateway": "g"}, {"id": "2", "check": "a/c", "severity": "high", "gateway": "g"}]}`))
	require.NoError(t, err)
	d := changes.Compare(empty, one, settings.All())
	require.Len(t, d.Added, 2)
	assert.Equal(t, "a/c", d.Added[0].Check, "the worst first")
	assert.True(t, d.Adds(int(audit.High)))
	assert.False(t, d.Adds(int(audit.Critical)))
	assert.Equal(t, -1, changes.Finding{Severity: "loud"}.Rank())
}
