package draft_test

import (
	"bytes"
	"context"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/formats"
	"toril/read/phrasebook"
	"toril/read/phrasebook/draft"
	"toril/read/readtest"
	"toril/source"
)

// device is a language whose phrasebook is withheld.
type device struct{ name, book, sample string }

var devices = []device{
	{"wharfgate", "demo/estate/phrasebooks/wharfgate.yaml", "demo/estate/fogbank/fogbank.wharfgate"},
	{"tidewheel", "demo/estate/phrasebooks/tidewheel.yaml", "demo/estate/breakwater/breakwater.tidewheel"},
	{"orrery", "demo/estate/phrasebooks/orrery.yaml", "demo/estate/almanac/almanac.orrery.xml"},
	{"frrouting", "read/phrasebook/testdata/frrouting.yaml", "lab/formats/samples/frr/frr.conf"},
	{"openiked", "read/phrasebook/testdata/openiked.yaml", "lab/formats/samples/iked/site.conf"},
}

// TestDraftsNameMostSettings drafts a phrasebook of each language and compares what it says of every line with the true one.
func TestDraftsNameMostSettings(t *testing.T) {
	open := func(name string) []byte {
		text, err := os.ReadFile("../../../" + name)
		require.NoError(t, err)
		return text
	}
	var known []*model.Gateway
	for _, f := range formats.All() {
		if f.Name == "swanctl.conf" {
			known = append(known, readtest.Read(f, "pilothouse/swanctl.conf", string(open("demo/estate/pilothouse/swanctl.conf")), nil))
		}
	}
	books := map[string]*phrasebook.Book{}
	for _, d := range devices {
		b, err := phrasebook.Load(d.book, open(d.book))
		require.NoError(t, err)
		books[d.name] = b
	}
	for _, d := range devices {
		all := known
		for _, o := range devices {
			if o.name != d.name {
				all = append(all, books[o.name].Try(context.Background(), source.NewFile(o.sample, open(o.sample))).Gateway)
			}
		}
		file := source.NewFile(d.sample, open(d.sample))
		truth := books[d.name].Try(context.Background(), file).Means
		made := draft.Of([]*source.File{file}, all, "draft")
		score(t, d.name, truth, made)
	}
}

// score compares the draft with the truth: at least 60 % of the settings are named, and none is named wrongly without a mark of doubt.
func score(t *testing.T, name string, truth map[int][]string, made *draft.Draft) {
	said := made.Settings()
	right, all := 0, 0
	for line, facts := range truth {
		for _, f := range facts {
			if !setting(f) {
				continue
			}
			all++
			if _, ok := said[line][f]; ok {
				right++
			} else if os.Getenv("DRAFT") != "" {
				t.Logf("%s:%d: missed %s, said %v", name, line, f, said[line])
			}
		}
	}
	for line, claims := range said {
		for what, sure := range claims {
			if sure && !contains(truth[line], what) {
				t.Errorf("%s:%d: %s is wrong and not marked; it is %v", name, line, what, truth[line])
			}
		}
	}
	var out bytes.Buffer
	require.NoError(t, draft.Write(&out, made))
	_, err := phrasebook.Load("draft.yaml", out.Bytes())
	assert.NoError(t, err, out.String())
	share := 100 * right / max(all, 1)
	t.Logf("%s: %d of %d settings named, %d %%", name, right, all, share)
	assert.GreaterOrEqual(t, share, 60, name)
}

// setting reports whether a fact is counted: rules and translations are not settings.
func setting(f string) bool {
	for _, p := range []string{"rule.", "translation.", "service.", "connection.", "interface.within", "interface.kind",
		"interface.borrows"} {
		if len(f) >= len(p) && f[:len(p)] == p {
			return false
		}
	}
	return true
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// FuzzDraft: whatever is drafted can be read as a phrasebook.
func FuzzDraft(f *testing.F) {
	for _, d := range devices {
		text, err := os.ReadFile("../../../" + d.sample)
		require.NoError(f, err)
		f.Add(string(text))
	}
	f.Fuzz(func(t *testing.T, text string) {
		var out bytes.Buffer
		file := source.NewFile("x", []byte(text))
		require.NoError(t, draft.Write(&out, draft.Of([]*source.File{file}, nil, "draft")))
		if out.Len() < 1<<19 { // of what is larger no phrasebook can be
			_, err := phrasebook.Load("draft.yaml", out.Bytes())
			require.NoError(t, err, out.String())
		}
	})
}

// unseen is a sample of a language that drafts were not made with, and far what is known of its far end.
const (
	unseen = `tern says good morning
bridge skerry toward 192.0.2.9
  renew each 480
  known as a.example expecting b.example
  passphrase Jackdaw-4711
  armour aes-256 seal sha-256 group 2048
  carry lights
    ours 10.1.0.0 255.255.0.0 10.3.0.0 255.255.0.0
    theirs 10.2.0.0/16
    wrap aes-256 seal sha-256
    anew every 3600
`
	far = `connections {
  x {
    version = 2
    local_addrs = 192.0.2.9
    remote_addrs = 192.0.2.1
    proposals = aes256-sha256-modp2048
    rekey_time = 8h
    local {
      auth = psk
      id = b.example
    }
    remote {
      auth = psk
      id = a.example
    }
    children {
      y {
        local_ts = 10.2.0.0/16
        remote_ts = 10.1.0.0/16, 10.3.0.0/16
        esp_proposals = aes256-sha256
        rekey_time = 1h
      }
    }
  }
}
secrets {
  ike-x {
    secret = Jackdaw-4711
  }
}
`
)

// TestADraftOfAnUnseenLanguage: its far end tells what its words do not.
func TestADraftOfAnUnseenLanguage(t *testing.T) {
	truth := map[int][]string{
		2: {"peer-address"}, 3: {"ike-lifetime/minutes"}, 4: {"own-identity", "peer-identity"}, 5: {"key.value"},
		6: {"ike.encryption", "ike.integrity", "ike.prf", "ike.key-exchange"}, 8: {"own-networks"}, 9: {"peer-networks"},
		10: {"child.encryption", "child.integrity"}, 11: {"child-lifetime/seconds"},
	}
	var known []*model.Gateway
	for _, f := range formats.All() {
		if f.Name == "swanctl.conf" {
			known = append(known, readtest.Read(f, "swanctl.conf", far, nil))
		}
	}
	score(t, "unseen", truth, draft.Of([]*source.File{source.NewFile("x", []byte(unseen))}, known, "draft"))
}
