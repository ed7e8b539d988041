package formats_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/read/formats"
	"toril/read/readtest"
)

// TestSettingsKnowTheirBytes cuts every statement that says a setting out of the samples that the programs take: it begins with a word of
// its own, and with it alone the file says the same. What is only known by its line is the line.
func TestSettingsKnowTheirBytes(t *testing.T) {
	inPlace := 0
	for folder, exact := range map[string]bool{"swanctl": true, "ipsec.conf-strongswan": true, "ipsec.conf-libreswan": true,
		"iked": false} {
		files, err := filepath.Glob("../../lab/formats/samples/" + folder + "/*")
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			name := folder
			if !strings.Contains(name, ".") {
				name += ".conf"
			}
			g := readtest.Read(byName(t, name), "sample", string(text), nil)
			said := 0
			for _, c := range g.Connections {
				for _, k := range append([]*model.Child{nil}, c.Children...) {
					s := settings.Subject{Connection: c, Child: k}
					for _, r := range settings.All() {
						v, ok := r.Get(s)
						if !ok || v.Default || (r.Of == settings.OfChild) != (k != nil) {
							continue
						}
						said++
						inPlace += placed(t, string(text), r, s)
						at := g.Files[0].Range(v.At)
						statement := string(text[at.Start:at.End])
						assert.Equal(t, v.At.Line, g.Files[0].LineAt(at.Start), statement)
						assert.Equal(t, strings.TrimSpace(statement), statement)
						assert.Contains(t, g.Files[0].Line(v.At.Line), strings.Split(statement, "\n")[0])
						if exact {
							key, value, _ := strings.Cut(statement, "=")
							assert.Regexp(t, `^[a-z][a-z0-9_-]*[ \t]*$`, key)
							assert.NotContains(t, value, "#")
						}
					}
				}
			}
			assert.Positive(t, said, file)
		}
	}
	assert.Greater(t, inPlace, 25, "proposals that were looked at")
}

// placed looks at the bytes of the proposals that a setting lists, where they have some: there stands what they were read from. It returns
// how many there are.
func placed(t *testing.T, text string, r *settings.Row, of settings.Subject) (n int) {
	var ps []ike.Proposal
	switch {
	case r == settings.IKEProposals.Row:
		ps = of.Connection.Proposals.Value
	case r == settings.ChildProposals.Row && of.Child != nil:
		ps = of.Child.Proposals.Value
	}
	for _, p := range ps {
		if p.Range.End > 0 {
			n++
			written := strings.Join(strings.Fields(text[p.Range.Start:p.Range.End]), " ")
			assert.Equal(t, strings.ToLower(p.Text), strings.ToLower(written))
		}
	}
	return n
}

// TestNothingIsReadAndCalledIrrelevant compares what formats say that they do with a statement.
func TestNothingIsReadAndCalledIrrelevant(t *testing.T) {
	for _, f := range formats.All() {
		use := map[string]read.Use{}
		for _, c := range f.Covers() {
			if strings.ContainsAny(c.Statement, ":*") { // in words
				continue
			}
			for name := range strings.SplitSeq(c.Statement, ", ") {
				if was, ok := use[name]; ok && was != c.Use {
					t.Errorf("%s: %s is %s and %s", f.Name, name, was, c.Use)
				}
				use[name] = c.Use
			}
		}
	}
}

// TestDefaults holds, for each daemon, every setting of connections that say next to nothing: what lies in testdata/defaults is what
// the daemons themselves were found to do. TORIL_WRITE_WANTS writes what the readers make of it, for people to compare.
func TestDefaults(t *testing.T) {
	for _, c := range []struct{ name, format, file, text string }{
		{"swanctl", "swanctl.conf", "swanctl.conf", "connections {\n a {\n  children {\n   b {\n   }\n  }\n }\n}\n"},
		{"swanctl-reauth-and-ah", "swanctl.conf", "swanctl.conf", "connections {\n a {\n  version = 1\n  reauth_time = 3h\n" +
			"  local {\n   auth = psk\n  }\n  remote {\n   id = x.example\n  }\n  children {\n   b {\n    ah_proposals = default\n" +
			"    rekey_time = 30m\n    life_bytes = 1g\n    life_packets = 1000\n    mark_in = 7\n    mark_out = 8\n   }\n  }\n }\n" +
			"}\n"},
		{"ipsec-conf-strongswan", "ipsec.conf-strongswan", "ipsec.conf", "conn a\n\tauto=add\n"},
		{"ipsec-conf-strongswan-opened", "ipsec.conf-strongswan", "ipsec.conf", "conn a\n\tkeyexchange=ikev1\n\tleft=192.0.2.1\n" +
			"\tright=192.0.2.2\n\tauthby=psk\n\tdpdaction=restart\n\tleftfirewall=yes\n\tleftprotoport=udp\n\tmark=7\n" +
			"\tlifebytes=1000000000\n\tlifepackets=1000\n\tauto=route\n"},
		{"ipsec-conf-libreswan", "ipsec.conf-libreswan", "ipsec.conf", "conn a\n\tauto=add\n"},
		{"ipsec-conf-libreswan-vti", "ipsec.conf-libreswan", "ipsec.conf", "conn a\n\tikev2=no\n\tleft=192.0.2.1\n\tright=192.0.2.2\n" +
			"\tauthby=secret\n\trightsubnet=10.9.0.0/16\n\tmark=7\n\tvti-interface=t0\n\tleftvti=172.31.9.1/30\n\tauto=start\n"},
		{"iked", "iked.conf", "iked.conf", "ikev2 esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.1\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			g := readtest.Read(byName(t, c.format), c.file, c.text, nil)
			assert.Empty(t, readtest.Unread(g))
			assert.Empty(t, readtest.Problems(g))
			got := c.text + strings.Repeat("-", 60) + "\n" + readtest.Everything(g)
			file := filepath.Join("testdata/defaults", c.name+".txt")
			if os.Getenv("TORIL_WRITE_WANTS") != "" {
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}
