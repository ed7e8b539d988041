package suite_test

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/estate"
	"toril/follow"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// A case is an estate of which it is known what is right: what daemons, the kernel and the standards do, and what a right audit
// says. Its comment says the need, and what is expected:
//
//	must: high nat/rewritten at skerrick          at least one such finding, at that severity or above
//	must not: medium *                            none
//	ends: skerrick: agrees                        how the attempts of an initiator end
//	rekey: skerrick: fails                        and the rekeying of every child
//	follow: skerrick 10.71.0.10 > 10.72.0.9:443 down: fates dropped; answered no
//
// "based on: CASE" takes the files of another case that it does not have itself, but for those behind "without:".
func TestCases(t *testing.T) {
	files, err := filepath.Glob("testdata/cases/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 170)
	met := 0
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			fsys, comment := caseFiles(t, file)
			e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
			require.NoError(t, err)
			day := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
			if text := line(comment, "as-of"); text != "" {
				day, err = time.Parse(time.DateOnly, text)
				require.NoError(t, err)
			}
			b, err := baseline.Named(baseline.Default)
			require.NoError(t, err)
			r, err := audit.Run(context.Background(), e.Estate, suite.All(), b, day)
			require.NoError(t, err)
			assert.Empty(t, r.Undeclared, "checks that ask for what they do not require")
			for l := range strings.Lines(comment) {
				key, rest, _ := strings.Cut(strings.TrimSpace(l), ": ")
				switch key {
				case "must", "must not":
					hits := matching(t, r.Findings, rest)
					assert.Equal(t, key == "must", len(hits) > 0, "%s: %s\nfound: %v", key, rest, told(r.Findings, hits, key))
				case "ends", "rekey":
					who, outcomes, _ := strings.Cut(rest, ": ")
					got := outcomesOf(e, who, key == "rekey")
					require.NotEmpty(t, got, rest)
					for _, o := range got {
						assert.Contains(t, strings.Split(outcomes, ", "), string(o), "%s: %s", key, rest)
					}
				case "follow":
					followed(t, e, rest)
				case "need", "as-of", "based on", "without":
					continue
				default:
					t.Errorf("what is %q?", l)
				}
				met++
			}
		})
	}
	fmt.Printf("cases: %d estates, %d expectations\n", len(files), met)
}

func caseFiles(t *testing.T, file string) (fs.FS, string) {
	ar, err := txtar.ParseFile(file)
	require.NoError(t, err)
	comment := string(ar.Comment)
	out := fstest.MapFS{}
	if base := line(comment, "based on"); base != "" {
		from, err := txtar.ParseFile(filepath.Join(filepath.Dir(file), base+".txtar"))
		require.NoError(t, err)
		require.Empty(t, line(string(from.Comment), "based on"), "a case is based on one that is whole")
		for _, f := range from.Files {
			out[f.Name] = &fstest.MapFile{Data: f.Data}
		}
	}
	for _, name := range strings.Fields(line(comment, "without")) {
		require.NotNil(t, out[name], "%s is not there to leave out", name)
		delete(out, name)
	}
	for _, f := range ar.Files {
		out[f.Name] = &fstest.MapFile{Data: f.Data}
	}
	return out, comment
}

// matching are the findings that an expectation means: "severity check... at gateway".
func matching(t *testing.T, fs []*audit.Finding, text string) []*audit.Finding {
	text, gateway, _ := strings.Cut(text, " at ")
	words := strings.Fields(text)
	least, err := audit.ParseSeverity(words[0])
	require.NoError(t, err)
	return slices.DeleteFunc(slices.Clone(fs), func(f *audit.Finding) bool {
		like := slices.ContainsFunc(words[1:], func(p string) bool {
			ok, _ := filepath.Match(p, f.Check)
			return ok || p == "*"
		})
		return !like || f.Severity < least || gateway != "" && f.Gateway != gateway
	})
}

func told(all, hits []*audit.Finding, key string) []string {
	if key == "must not" {
		all = hits
	}
	var out []string
	for _, f := range all {
		if f.Severity > audit.Info {
			out = append(out, fmt.Sprintf("%s %s %s: %s", f.Severity, f.Check, f.Gateway, f.Message))
		}
	}
	return out
}

// outcomesOf are the outcomes of all attempts of a gateway, or of the rekeying of their children.
func outcomesOf(e *pair.Whole, initiator string, rekey bool) []negotiate.Outcome {
	var out []negotiate.Outcome
	for _, t := range e.Tunnels {
		for _, a := range negotiate.Tunnel(t) {
			if a.Initiator.Gateway.Name != initiator {
				continue
			}
			if !rekey {
				out = append(out, a.Outcome)
				continue
			}
			for _, c := range a.Children {
				if c.Outcome == negotiate.Agrees {
					out = append(out, c.Rekey.Outcome)
				}
			}
		}
	}
	return out
}

// followed compares a packet's way: "gateway FROM > TO [down]: fates a, b; far c; out eth1; arrives yes; answered no".
func followed(t *testing.T, e *pair.Whole, text string) {
	question, wanted, _ := strings.Cut(text, ": ")
	words := strings.Fields(question)
	from, err := follow.ParsePlace(words[1])
	require.NoError(t, err)
	to, err := follow.ParsePlace(words[3])
	require.NoError(t, err)
	set, err := follow.Packets(from, to, "")
	require.NoError(t, err)
	trips, err := follow.Ask(e, follow.Question{Gateway: e.Gateway(words[0]), Packets: set, Down: len(words) > 4})
	require.NoError(t, err)
	var fates, far, out []string
	add := func(to *[]string, s string) {
		if !slices.Contains(*to, s) {
			*to = append(*to, s)
		}
	}
	passes := func(os []walk.Outcome) bool {
		return !slices.ContainsFunc(os, func(o walk.Outcome) bool { return o.Fate == walk.Dropped })
	}
	arrives, answered := "no", "no"
	for _, trip := range trips {
		for _, p := range trip.Parts {
			add(&fates, string(p.Fate))
			if p.Crossing == nil || p.Crossing.Trip == nil {
				continue
			}
			for _, q := range p.Crossing.Trip.Parts {
				add(&far, string(q.Fate))
				add(&out, q.Out)
				if passes(p.Outer) && passes(p.Crossing.Trip.Arrival) && p.Crossing.Lost == "" &&
					(q.Fate == walk.Clear || q.Fate == walk.Delivered) {
					arrives = "yes"
					if len(q.Answer) > 0 && q.Stray == "" &&
						!slices.ContainsFunc(q.Answer, func(l *follow.Leg) bool { return !passes(l.Parts) }) {
						answered = "yes"
					}
				}
			}
		}
	}
	slices.Sort(fates)
	slices.Sort(far)
	slices.Sort(out)
	got := map[string]string{
		"fates":    strings.Join(fates, ", "),
		"far":      strings.Join(far, ", "),
		"out":      strings.Join(out, ", "),
		"arrives":  arrives,
		"answered": answered,
	}
	for part := range strings.SplitSeq(wanted, "; ") {
		key, want, _ := strings.Cut(part, " ")
		assert.Equal(t, want, got[key], "follow %s: %s", text, key)
	}
}
