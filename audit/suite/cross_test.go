package suite_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"context"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// What ends and follow know, audit says: whenever an attempt, a child or a rekey fails, data planes differ, or packets of
// protected networks are dropped, leave in the clear or get no answer with the tunnel up, a finding at that tunnel says so. And
// where audit is silent, ends and follow are content.
func TestWhatEndsAndFollowKnowAuditSays(t *testing.T) {
	t.Run("demo", func(t *testing.T) {
		e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		crossCheck(t, e)
	})
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			ar, err := txtar.ParseFile(file)
			require.NoError(t, err)
			fsys, err := txtar.FS(ar)
			require.NoError(t, err)
			e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
			require.NoError(t, err)
			crossCheck(t, e)
		})
	}
	n, err := strconv.Atoi(os.Getenv("TORIL_CROSS_CASES"))
	if err != nil {
		n = 150
	}
	loud := 0
	for seed := range n {
		fsys, faults, sound := randomEstate(seed)
		ok := t.Run(fmt.Sprint("random ", seed), func(t *testing.T) {
			e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
			require.NoError(t, err)
			require.Empty(t, e.Problems)
			found := crossCheck(t, e)
			if sound {
				for _, f := range found {
					assert.Less(t, f.Severity, audit.Medium, "a sound estate: %s %s: %s", f.Check, f.Gateway, f.Message)
				}
			}
			if len(found) > 0 {
				loud++
			}
		})
		if !ok {
			t.Logf("random %d: %s", seed, strings.Join(faults, ", "))
		}
	}
	t.Logf("%d random estates, %d with findings", n, loud)
}

// crossCheck audits an estate and compares. It returns the findings above info.
func crossCheck(t *testing.T, e *pair.Whole) []*audit.Finding {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), e.Estate, suite.All(), b, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Empty(t, r.Undeclared, "checks that ask for what they do not require")
	var found []*audit.Finding
	for _, f := range r.Findings {
		if f.Severity > audit.Info || f.Unsure != "" {
			found = append(found, f)
		}
	}
	for _, tu := range e.Tunnels {
		said := func(areas ...string) bool {
			return slices.ContainsFunc(found, func(f *audit.Finding) bool {
				area, _, _ := strings.Cut(f.Check, "/")
				at := f.Tunnel == tu.Name ||
					f.Tunnel == "" && slices.ContainsFunc(tu.Ends, func(x pair.End) bool { return x.Gateway.Name == f.Gateway })
				return at && (slices.Contains(areas, area) || slices.Contains(areas, f.Check))
			})
		}
		for _, a := range negotiate.Tunnel(tu) {
			switch {
			case a.Failure != nil && a.Failure.Topic != negotiate.AnswersOnly:
				assert.True(
					t,
					said("ends", "key", "ike/refused"),
					"%s: an attempt of %s fails and audit is silent: %s",
					tu.Name,
					a.Initiator.Name(),
					a.Failure.Why,
				)
			case a.Failure != nil:
			default:
				for _, c := range a.Children {
					if c.Failure != nil {
						assert.True(
							t,
							said("ends", "esp/transport"),
							"%s: child %s fails and audit is silent: %s",
							tu.Name,
							c.Of.Name,
							c.Failure.Why,
						)
						continue
					}
					if c.Rekey.Failure != nil {
						assert.True(t, said("ends/pfs-differs"), "%s: rekeying of %s fails and audit is silent", tu.Name, c.Of.Name)
					}
					if c.Broken != "" {
						check := map[bool]string{true: "ends/not-mirrored", false: "ends/data-differs"}[c.BrokenBy == negotiate.Selectors]
						assert.True(t, said(check), "%s: %s and audit is silent", tu.Name, c.Broken)
					}
				}
			}
		}
		for _, end := range tu.Ends {
			path := walk.NewPath(end.Gateway, e.Ends(end.Gateway), walk.Options{})
			for _, k := range end.Connection.Children {
				if pol := path.Policy(k, tu.Own(end), tu.Peer(end)); pol != nil && pol.Protects() && end.Connection.Unusable == nil {
					crossPackets(t, tu, end, path, pol, func(areas ...string) bool { return said(areas...) })
				}
			}
		}
	}
	return found
}

// crossPackets compares what becomes of packets at one end. Where the intent is declared, only that counts.
func crossPackets(t *testing.T, tu *pair.Tunnel, end pair.End, path *walk.Path, pol *walk.Policy, said func(...string) bool) {
	name := tu.Name + " at " + end.Gateway.Name
	_, declared := tu.Intended(end)
	for _, o := range path.Outer(pol) {
		if o.Fate == walk.Dropped && (o.Where != "route" || len(end.Gateway.Routes) > 0) {
			assert.True(t, said("access", "route", "nat"), "%s: ESP packets are %s and audit is silent", name, o)
		}
	}
	if arrived := path.Arrive(pol); len(arrived) > 0 &&
		!slices.ContainsFunc(arrived, func(o walk.Outcome) bool { return o.Fate == walk.Delivered }) {
		assert.True(t, said("access"), "%s: ESP packets of the peer are %s and audit is silent", name, arrived[0])
	}
	if declared {
		return
	}
	for _, c := range path.Crossings(pol) {
		passes := false
		for _, o := range c.Into {
			passes = passes || o.Fate == walk.Encrypted
			if o.Fate == walk.Clear && path.Known() && o.Doubts.Certain() {
				assert.True(
					t,
					said("nat", "route", "domain"),
					"%s: packets of %s leave in the clear with the tunnel up and audit is silent: %s",
					name,
					pol.Name,
					o.Was(),
				)
			}
		}
		for _, o := range c.From {
			passes = passes || o.Passes()
		}
		if !passes && len(c.Into)+len(c.From) > 0 {
			assert.True(
				t,
				said("access", "route", "nat", "domain"),
				"%s: nothing of %s to %s passes and audit is silent",
				name,
				c.Local,
				c.Remote,
			)
		}
		for _, a := range slices.Concat(c.Sent, c.Given) {
			for _, got := range a.Gets {
				if got.Fate == walk.Dropped && got.Doubts.Certain() && a.To.Doubts.Certain() {
					assert.True(
						t,
						said("access", "route", "nat", "domain"),
						"%s: answers are %s and audit is silent: %s",
						name,
						got,
						got.Was(),
					)
				}
			}
		}
	}
}
