package suite_test

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/read/formats"
)

// A sample is a txtar archive: an estate whose lines say in comments which checks must speak about them,
//
//	rekey_time = 1440   # want life/unit
//
// with the first line of the archive saying which checks are asked ("checks: life/*") and, where it is not the default,
// by which baseline. A finding without a want, or a want without a finding, fails.
func TestSamples(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	fired, silent := map[string]bool{}, map[string]bool{}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			ar, err := txtar.ParseFile(file)
			require.NoError(t, err)
			checks, base := header(t, string(ar.Comment))
			fsys, err := txtar.FS(ar)
			require.NoError(t, err)
			r := run(t, fsys, checks, base)
			want, got := wants(ar), map[string]int{}
			spoke := map[string]map[string]bool{} // check -> gateway
			for _, f := range r.Findings {
				key := fmt.Sprintf("%s:%d %s", f.At.File, f.At.Line, f.Check)
				got[key]++
				fired[f.Check] = true
				if spoke[f.Check] == nil {
					spoke[f.Check] = map[string]bool{}
				}
				spoke[f.Check][f.Gateway] = true
				assert.NotZero(t, want[key], "a finding that nobody wants: %s: %s", key, f.Message)
				assert.NotEmpty(t, f.Message)
				assert.NotEmpty(t, f.Why)
				assert.NotEmpty(t, f.Mend)
			}
			for key := range want {
				assert.NotZero(t, got[key], "no finding for: %s", key)
			}
			for _, c := range checks {
				for _, g := range r.Estate.Gateways {
					silent[c.Name] = silent[c.Name] || !spoke[c.Name][g.Name]
				}
			}
		})
	}
	for _, c := range suite.All() {
		assert.True(t, fired[c.Name], "%s has no sample in which it speaks", c.Name)
		assert.True(t, silent[c.Name], "%s has no sample in which it is silent", c.Name)
	}
}

var wantComment = regexp.MustCompile(`[#;!] want ([a-z0-9/ -]+)`)

func wants(ar *txtar.Archive) map[string]int {
	out := map[string]int{}
	for line := range strings.Lines(string(ar.Comment)) { // of files that cannot hold a comment: "want: file:1 check"
		if place, ok := strings.CutPrefix(strings.TrimSpace(line), "want: "); ok {
			out[place]++
		}
	}
	for _, f := range ar.Files {
		for i, line := range strings.Split(string(f.Data), "\n") {
			if m := wantComment.FindStringSubmatch(line); m != nil {
				for _, name := range strings.Fields(m[1]) {
					out[fmt.Sprintf("%s:%d %s", f.Name, i+1, name)]++
				}
			}
		}
	}
	return out
}

func header(t *testing.T, comment string) ([]*audit.Check, *baseline.Baseline) {
	checks, base := suite.All(), baseline.Default
	for line := range strings.Lines(comment) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
		switch key {
		case "checks":
			var asked []*audit.Check
			for _, c := range checks {
				for _, p := range strings.Fields(value) {
					if ok, _ := filepath.Match(p, c.Name); ok {
						asked = append(asked, c)
					}
				}
			}
			checks = asked
		case "baseline":
			base = value
		}
	}
	require.NotEmpty(t, checks)
	b, err := baseline.Named(base)
	require.NoError(t, err)
	return checks, b
}

func run(t *testing.T, fsys fs.FS, checks []*audit.Check, b *baseline.Baseline) *audit.Result {
	e, err := estate.LoadFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	for _, p := range e.Problems {
		assert.Fail(t, "a problem in a sample", p.Error())
	}
	r, err := audit.Run(context.Background(), e, checks, b, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return r
}

func TestEveryCheckIsDocumented(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range suite.All() {
		assert.False(t, seen[c.Name], "%s is there twice", c.Name)
		seen[c.Name] = true
		assert.Regexp(t, `^[a-z]+/[a-z0-9-]+$`, c.Name)
		for what, s := range map[string]string{"why": c.Why, "what": c.Doc.What, "harm": c.Doc.Harm} {
			assert.Greater(t, len(s), len(c.Title), "%s: %s says less than the title", c.Name, what)
		}
		assert.NotEmpty(t, c.Mend, c.Name)
		assert.NotEmpty(t, c.Doc.Write, c.Name)
		assert.NotEmpty(t, c.Doc.Sources, c.Name)
		for _, d := range c.Doc.Demands {
			assert.True(t, d == baseline.Algorithms || baseline.About(d) != "", "%s: %s is no demand or limit of a baseline", c.Name, d)
		}
	}
}

func TestDemoHasItsSeededFaultsOnce(t *testing.T) {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	r := run(t, demo.Estate(), suite.All(), b)
	var got []string
	for _, f := range r.Findings {
		if f.Severity >= audit.Low {
			got = append(got, fmt.Sprintf("%s %s:%d", f.Check, f.At.File, f.At.Line))
		}
		if f.Severity >= audit.Low {
			assert.NotContains(t, []string{"skerry", "headland"}, f.Gateway, f.Message)
		}
	}
	slices.Sort(got)
	assert.Equal(t, seeded, got)
}

func TestSameFindingsAtAnyNumberOfProcessors(t *testing.T) {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(0))
	var first []audit.Finding
	for _, n := range []int{1, 2, 7} {
		runtime.GOMAXPROCS(n)
		r := run(t, demo.Estate(), suite.All(), b)
		if first == nil {
			first = r.Findings
		}
		assert.Equal(t, first, r.Findings)
	}
}
