//go:build lab

// Package fixes loads what toril fix makes of configurations into real daemons: what failed comes up, and what was weak is gone.
package fixes

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/fix"
	"toril/lab"
	"toril/lab/charon"
	"toril/pair"
	"toril/read/formats"
)

// end is an end of a pair: what of it is not as usual.
type end struct{ version, proposals, esp string }

// seeded are pairs with one fault each: the settings of either end, and what its fix must change with the daemons.
var seeded = []struct {
	name, check string
	a, b        end
	was, is     func(o charon.Outcome) bool
}{
	{"3DES at both ends", "ike/weak-algorithm", end{proposals: "3des-sha1-modp1024"}, end{proposals: "3des-sha1-modp1024"},
		suiteHas("3DES"), strong},
	{"3DES beside AES", "ike/downgrade", end{proposals: "aes256-sha256-modp3072,3des-sha1-modp1024"},
		end{proposals: "aes256-sha256-modp3072,3des-sha1-modp1024"}, up, strong},
	{"a weak child", "esp/weak-algorithm", end{esp: "3des-md5-modp3072"}, end{esp: "3des-md5-modp3072"}, childHas("3DES"), strong},
	{"no common proposal", "ends/proposals-differ", end{proposals: "aes256-sha256-modp3072"},
		end{proposals: "aes256gcm16-prfsha384-ecp384"}, down, strong},
	{"no common proposal of the child", "ends/proposals-differ", end{esp: "aes256gcm16-ecp384"}, end{esp: "aes256-sha256-ecp384"},
		noChild, strong},
	{"PFS at one end", "ends/pfs-differs", end{esp: "aes256gcm16-ecp384"}, end{esp: "aes256gcm16"}, dies, strong},
	{"other groups", "ends/pfs-differs", end{esp: "aes256gcm16-ecp384"}, end{esp: "aes256gcm16-ecp256"}, dies, strong},
	{"no PFS", "pfs/absent", end{esp: "aes256gcm16"}, end{esp: "aes256gcm16"}, up, rekeysWithGroup},
	{"other versions", "ends/version-differs", end{version: "1", proposals: "aes256-sha256-modp3072"},
		end{version: "2", proposals: "aes256-sha256-modp3072"}, down, strong},
	{"version 1", "ike/version-1", end{version: "1", proposals: "aes256-sha256-modp3072"},
		end{version: "1", proposals: "aes256-sha256-modp3072"}, up, strong},
}

func up(o charon.Outcome) bool      { return o.IKE != nil && len(o.IKE.Children) == 1 }
func down(o charon.Outcome) bool    { return o.IKE == nil }
func noChild(o charon.Outcome) bool { return o.IKE != nil && len(o.IKE.Children) == 0 }
func dies(o charon.Outcome) bool    { return up(o) && !strings.HasPrefix(o.RekeyI, "ok") }
func strong(o charon.Outcome) bool {
	return up(o) && strings.HasPrefix(o.RekeyI, "ok") && !strings.Contains(o.IKE.Suite+o.IKE.Children[0].Suite, "3DES") &&
		!strings.Contains(o.IKE.Suite, "MODP_1024") && o.IKE.Version == "2"
}

func rekeysWithGroup(o charon.Outcome) bool {
	return strong(o) && (strings.Contains(o.RekeyI+o.RekeyR, "ECP") || strings.Contains(o.RekeyI+o.RekeyR, "MODP"))
}

func suiteHas(word string) func(charon.Outcome) bool {
	return func(o charon.Outcome) bool { return up(o) && strings.Contains(o.IKE.Suite, word) }
}

func childHas(word string) func(charon.Outcome) bool {
	return func(o charon.Outcome) bool { return up(o) && strings.Contains(o.IKE.Children[0].Suite, word) }
}

// seededConf writes an end of a seeded pair.
func seededConf(own, peer string, e end) string {
	or := func(s, otherwise string) string {
		if s == "" {
			return otherwise
		}
		return s
	}
	nets := map[string]string{"1": "10.1.0.0/24", "2": "10.2.0.0/24"}
	return fmt.Sprintf(`# an end of a seeded pair
connections {
    far {
        version = %s
        local_addrs = 10.0.0.%s
        remote_addrs = 10.0.0.%s
        proposals = %s
        dpd_delay = 30s
        local {
            auth = psk
            id = gw%s.example
        }
        remote {
            auth = psk
            id = gw%s.example
        }
        children {
            net {
                local_ts = %s
                remote_ts = %s
                esp_proposals = %s
                start_action = none
            }
        }
    }
}

secrets {
    ike-far {
        id-own = gw1.example
        id-peer = gw2.example
        secret = "kfj39fjWE9fj3oiqpz81mvnRTYgh10"
    }
}
`, or(e.version, "2"), own, peer, or(e.proposals, "aes256gcm16-prfsha384-ecp384"), own, peer, nets[own], nets[peer],
		or(e.esp, "aes256gcm16-ecp384"))
}

func fixSession(fsys fs.FS) *fix.Session {
	b, err := baseline.Named(baseline.Default)
	if err != nil {
		panic(err) // it is embedded
	}
	return &fix.Session{
		Checks: suite.All(), Baseline: b, Now: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC),
		Load: func(ctx context.Context, edited map[string][]byte, only []string) (*pair.Estate, error) {
			return pair.LoadFS(ctx, fsys, estate.Options{Formats: formats.All(), Edited: edited, Only: only})
		},
	}
}

// TestFixesWorkWithDaemons has real daemons try pairs with a seeded fault, fixes them, and has them try again.
func TestFixesWorkWithDaemons(t *testing.T) {
	tally := lab.NewTally(t, "fix: seeded faults, before and after their fix, with two daemons")
	p := charon.StartPair(t, "fix")
	for _, s := range seeded {
		t.Run(s.name, func(t *testing.T) {
			fsys := fstest.MapFS{
				"one/swanctl.conf": {Data: []byte(seededConf("1", "2", s.a))},
				"two/swanctl.conf": {Data: []byte(seededConf("2", "1", s.b))},
			}
			before := loadBoth(t, p, string(fsys["one/swanctl.conf"].Data), string(fsys["two/swanctl.conf"].Data))
			assert.True(t, s.was(before), "before: %+v", before)
			session := fixSession(fsys)
			fixes, err := session.Run(context.Background(), func(f *audit.Finding) bool { return f.Check == s.check })
			require.NoError(t, err)
			require.NotEmpty(t, fixes)
			for _, f := range fixes {
				require.False(t, f.Stays(), f.Why)
			}
			text := func(name string) string {
				if edited, ok := session.Edited[name]; ok {
					return string(edited)
				}
				return string(fsys[name].Data)
			}
			after := loadBoth(t, p, text("one/swanctl.conf"), text("two/swanctl.conf"))
			tally.Count(assert.True(t, s.is(after), "after: %+v\n%s\n%s", after, text("one/swanctl.conf"), text("two/swanctl.conf")))
		})
	}
}

func loadBoth(t *testing.T, p *charon.Pair, a, b string) charon.Outcome {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.conf": a, "b.conf": b} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	require.NoError(t, p.A.LoadFile(filepath.Join(dir, "a.conf")))
	require.NoError(t, p.B.LoadFile(filepath.Join(dir, "b.conf")))
	return charon.Try(t, p.A, p.B, "far", "net", true)
}

// TestTheFixedDemonstrationWorks fixes the demonstration estate and loads what came of its gateways into daemons: the tunnels that died
// when they were rekeyed live, and no weak suite is left.
func TestTheFixedDemonstrationWorks(t *testing.T) {
	tally := lab.NewTally(t, "fix: tunnels of the fixed demonstration estate, with two daemons")
	p := charon.StartPair(t, "fxd")
	s := fixSession(demo.Estate())
	_, err := s.Run(context.Background(), func(f *audit.Finding) bool { return f.Severity >= audit.Low && f.Unsure == "" })
	require.NoError(t, err)
	e, err := s.Load(context.Background(), s.Edited, nil)
	require.NoError(t, err)
	w, err := e.Whole(context.Background())
	require.NoError(t, err)
	for _, tu := range w.Tunnels {
		if len(tu.Ends) != 2 {
			continue
		}
		var texts [2]string
		own, peer := tu.Own(tu.Ends[0]).String(), tu.Peer(tu.Ends[0]).String()
		here := strings.NewReplacer(own, "10.0.0.1", peer, "10.0.0.2")
		for i, end := range tu.Ends {
			for _, f := range end.Gateway.Files {
				if f.Format == "swanctl.conf" {
					texts[i] = here.Replace(string(f.Bytes()))
				}
			}
		}
		if texts[0] == "" || texts[1] == "" { // of a make that does not run here
			continue
		}
		dir := t.TempDir()
		for i, d := range []*charon.Daemon{p.A, p.B} {
			file := filepath.Join(dir, fmt.Sprint(i))
			require.NoError(t, os.WriteFile(file, []byte(texts[i]), 0o600))
			require.NoError(t, d.LoadFile(file))
		}
		o := charon.Try(t, p.A, p.B, tu.Ends[0].Connection.Name, tu.Ends[0].Connection.Children[0].Name, true)
		tally.Count(assert.True(t, strong(o), "%s: %+v", tu.Name, o))
	}
}
