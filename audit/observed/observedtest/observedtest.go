// Package observedtest asks of saved status what is known to be so.
package observedtest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

// Differences says how the findings about what was observed in the estate of a scenario's folder differ from what its want.txt lists: a
// line
// "severity check subject words" a finding, or "silent".
func Differences(t testing.TB, scenario string) (out []string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(scenario, "want.txt"))
	require.NoError(t, err)
	e, err := pair.LoadFS(context.Background(), os.DirFS(filepath.Join(scenario, "estate")), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	for _, p := range e.Problems {
		out = append(out, "problem: "+p.Error())
	}
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	checks := slices.DeleteFunc(suite.All(), func(c *audit.Check) bool { return c.Area() != "observed" })
	r, err := audit.Run(context.Background(), e, checks, b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	var got []string
	for _, f := range r.Findings {
		subject := f.Gateway
		for _, part := range []string{f.Connection, f.Child} {
			if part != "" {
				subject += "/" + part
			}
		}
		got = append(got, fmt.Sprintf("%s %s %s %s", f.Severity, f.Check, subject, f.Message))
		for _, u := range f.AlsoIn {
			got = append(got, fmt.Sprintf("%s %s %s %s", f.Severity, f.Check, u, f.Message))
		}
	}
	for line := range strings.Lines(string(text)) {
		want := strings.SplitN(strings.TrimSpace(line), " ", 4)
		if len(want) < 4 {
			continue // silent
		}
		i := slices.IndexFunc(got, func(g string) bool {
			return strings.HasPrefix(g, strings.Join(want[:3], " ")+" ") && strings.Contains(g, want[3])
		})
		if i < 0 {
			out = append(out, "missing: "+strings.TrimSpace(line))
			continue
		}
		got = slices.Delete(got, i, i+1)
	}
	for _, g := range got {
		out = append(out, "not expected: "+g)
	}
	return out
}
