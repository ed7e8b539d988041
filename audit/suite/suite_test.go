package suite_test

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
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
	"toril/demo"
	"toril/estate"
	"toril/model"
	"toril/pair"
	"toril/read/formats"
)

// A sample is a txtar archive: an estate whose lines say in comments what must be found there: the check, its severity, and the
// words of the message that matter,
//
//	rekey_time = 1440   # want life/unit medium 1440 seconds look like 24 h
//
// several divided by " | ". The archive's comment says which checks are asked ("checks: life/*"), where it is not the default by
// which baseline, which gateways are silent ("silent: tarn"), and what is wanted in files that cannot hold a comment
// ("want: file:7 check severity words"). A finding without a want, or a want without a finding, fails.
func TestSamples(t *testing.T) {
	fired, silent := map[string]bool{}, map[string]bool{}
	for _, s := range samples(t) {
		t.Run(s.name, func(t *testing.T) {
			if os.Getenv("TORIL_WRITE_WANTS") != "" {
				rewrite(t, s)
				return
			}
			for _, complaint := range s.wrong(s.result.Findings) {
				t.Error(complaint)
			}
			spoke := map[[2]string]bool{} // check and gateway
			for _, f := range s.result.Findings {
				fired[f.Check], spoke[[2]string{f.Check, f.Gateway}] = true, true
				assert.NotEmpty(t, f.Message)
				assert.NotEmpty(t, f.Why)
				assert.NotEmpty(t, f.Fix)
			}
			for _, g := range s.result.Estate.Gateways {
				for _, c := range s.checks {
					silent[c.Name] = silent[c.Name] || !spoke[[2]string{c.Name, g.Name}]
				}
			}
		})
	}
	if os.Getenv("TORIL_WRITE_WANTS") != "" {
		return
	}
	for _, c := range suite.All() {
		assert.True(t, fired[c.Name], "%s has no sample in which it reports anything", c.Name)
		assert.True(t, silent[c.Name], "%s has no sample in which it is silent", c.Name)
	}
}

// estateSample is a sample with what was found in it.
type estateSample struct {
	name, file string
	archive    *txtar.Archive
	checks     []*audit.Check
	result     *audit.Result
	wants      []*want
	quiet      []string
}

// samples audits every sample.
func samples(t *testing.T) []*estateSample {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	var out []*estateSample
	for _, file := range files {
		ar, err := txtar.ParseFile(file)
		require.NoError(t, err)
		s := &estateSample{
			name:    strings.TrimSuffix(filepath.Base(file), ".txtar"),
			file:    file,
			archive: ar,
			wants:   wants(ar),
			quiet:   strings.Fields(line(string(ar.Comment), "silent")),
		}
		checks, base := header(t, string(ar.Comment))
		fsys, err := txtar.FS(ar)
		require.NoError(t, err)
		s.checks, s.result = checks, run(t, fsys, checks, base)
		out = append(out, s)
	}
	return out
}

// wrong says in what findings are not those that a sample wants.
func (s *estateSample) wrong(found []*audit.Finding) []string {
	var out []string
	met := map[*want]bool{}
	loud := map[string]bool{}
	for _, f := range found {
		loud[f.Gateway] = true
		wanted := false
		for _, w := range s.wants {
			if w.meets(f) {
				met[w], wanted = true, true
			}
		}
		if !wanted {
			out = append(
				out,
				fmt.Sprintf("a finding that nobody wants: %s:%d %s %s %s", f.At.File, f.At.Line, f.Check, f.Severity, f.Message),
			)
		}
	}
	for _, w := range s.wants {
		if !met[w] {
			out = append(out, fmt.Sprintf("no finding for: %s %s", w.place, w.text))
		}
	}
	for _, g := range s.result.Estate.Gateways {
		if quiet := slices.Contains(s.quiet, g.Name); loud[g.Name] == quiet {
			out = append(out, fmt.Sprintf("%s is silent, or is said to be", g.Name))
		}
	}
	return out
}

// TestMutants changes what the checks say, one thing at a time, as a change to the program would: a check left out, a severity
// raised or lowered, the first or the last word of a message. Each must be noticed by the samples.
func TestMutants(t *testing.T) {
	all := samples(t)
	type mutant struct {
		name   string
		change func([]*audit.Finding) []*audit.Finding
	}
	var mutants []mutant
	for _, c := range suite.All() {
		each := func(name string, change func(*audit.Finding)) {
			mutants = append(mutants, mutant{c.Name + ": " + name, func(in []*audit.Finding) []*audit.Finding {
				out := slices.Clone(in)
				for i := range out {
					if out[i].Check == c.Name {
						changed := *out[i]
						out[i] = &changed
						change(out[i])
					}
				}
				return out
			}})
		}
		mutants = append(mutants, mutant{c.Name + ": left out", func(in []*audit.Finding) []*audit.Finding {
			return slices.DeleteFunc(slices.Clone(in), func(f *audit.Finding) bool { return f.Check == c.Name })
		}})
		each("the next severity", func(f *audit.Finding) { f.Severity = (f.Severity + 1) % 5 })
		each("the severity before", func(f *audit.Finding) { f.Severity = (f.Severity + 4) % 5 })
		each("another beginning", func(f *audit.Finding) { _, f.Message, _ = strings.Cut(f.Message, " ") })
		each("another end", func(f *audit.Finding) { f.Message = f.Message[:strings.LastIndex(f.Message, " ")] })
	}
	require.GreaterOrEqual(t, len(mutants), 150)
	for _, m := range mutants {
		noticed := slices.ContainsFunc(all, func(s *estateSample) bool { return len(s.wrong(m.change(s.result.Findings))) > 0 })
		assert.True(t, noticed, "nothing notices %s", m.name)
	}
	t.Logf("%d mutants, all noticed", len(mutants))
}

var wantComment = regexp.MustCompile(`[ \t]*[#;!] want (.+)`)

// want is what must be found at a line.
type want struct {
	place, text            string // "file:line", and the rest as written
	check, severity, words string
}

func (w *want) meets(f *audit.Finding) bool {
	return w.place == fmt.Sprintf("%s:%d", f.At.File, f.At.Line) && w.check == f.Check && w.severity == f.Severity.String() &&
		f.Message == w.words
}

func newWant(place, text string) *want {
	check, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	severity, words, _ := strings.Cut(rest, " ")
	return &want{place: place, text: text, check: check, severity: severity, words: words}
}

func wants(ar *txtar.Archive) []*want {
	var out []*want
	for line := range strings.Lines(string(ar.Comment)) {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "want: "); ok {
			place, rest, _ := strings.Cut(text, " ")
			out = append(out, newWant(place, rest))
		}
	}
	for _, f := range ar.Files {
		for i, line := range strings.Split(string(f.Data), "\n") {
			if m := wantComment.FindStringSubmatch(line); m != nil {
				for one := range strings.SplitSeq(m[1], " | ") {
					out = append(out, newWant(fmt.Sprintf("%s:%d", f.Name, i+1), one))
				}
			}
		}
	}
	return out
}

// line returns what stands behind a key of an archive's comment.
func line(comment, key string) string {
	for l := range strings.Lines(comment) {
		if value, ok := strings.CutPrefix(strings.TrimSpace(l), key+": "); ok {
			return value
		}
	}
	return ""
}

// rewrite puts what is found into a sample, for people to read before they keep it.
func rewrite(t *testing.T, s *estateSample) {
	file, ar, r := s.file, s.archive, s.result
	at := map[string][]string{}
	loud := map[string]bool{}
	for _, f := range r.Findings {
		key := fmt.Sprintf("%s:%d", f.At.File, f.At.Line)
		text := fmt.Sprintf("%s %s %s", f.Check, f.Severity, f.Message)
		if !slices.Contains(at[key], text) {
			at[key] = append(at[key], text)
		}
		loud[f.Gateway] = true
	}
	var comment strings.Builder
	for l := range strings.Lines(string(ar.Comment)) {
		if !strings.HasPrefix(l, "want: ") && !strings.HasPrefix(l, "silent: ") {
			comment.WriteString(l)
		}
	}
	var quiet []string
	for _, g := range r.Estate.Gateways {
		if !loud[g.Name] {
			quiet = append(quiet, g.Name)
		}
	}
	if len(quiet) > 0 {
		fmt.Fprintf(&comment, "silent: %s\n", strings.Join(quiet, " "))
	}
	for i, f := range ar.Files {
		bare := slices.Contains([]string{".txt", ".log", ".pem", ".key", ".json", ".v4"}, filepath.Ext(f.Name))
		lines := strings.Split(string(f.Data), "\n")
		for n, l := range lines {
			key := fmt.Sprintf("%s:%d", f.Name, n+1)
			l = wantComment.ReplaceAllString(l, "")
			if texts := at[key]; len(texts) > 0 {
				slices.Sort(texts)
				if bare {
					for _, text := range texts {
						fmt.Fprintf(&comment, "want: %s %s\n", key, text)
					}
				} else {
					l += "  # want " + strings.Join(texts, " | ")
				}
			}
			lines[n] = l
		}
		ar.Files[i].Data = []byte(strings.Join(lines, "\n"))
	}
	ar.Comment = []byte(comment.String())
	require.NoError(t, os.WriteFile(file, txtar.Format(ar), 0o644))
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
	e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	for _, p := range e.Problems {
		if slices.ContainsFunc(e.Gateways, func(g *model.Gateway) bool {
			return slices.ContainsFunc(g.Refused, func(r model.Refusal) bool { return r.Error == p })
		}) {
			continue // a check says so
		}
		assert.Fail(t, "a problem in a sample", p.Error())
	}
	r, err := audit.Run(context.Background(), e.Estate, checks, b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Empty(t, r.Undeclared, "checks that ask for what they do not require")
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
		assert.NotEmpty(t, c.Fix, c.Name)
		assert.NotEmpty(t, c.Example(), c.Name)
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
	var first []*audit.Finding
	for _, n := range []int{1, 2, 7} {
		runtime.GOMAXPROCS(n)
		r := run(t, demo.Estate(), suite.All(), b)
		if first == nil {
			first = r.Findings
		}
		assert.Equal(t, first, r.Findings)
	}
}

// TestFindingsKeepTheirIdentity puts lines before everything and changes a value: the findings stay the same ones.
func TestFindingsKeepTheirIdentity(t *testing.T) {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	ids := func(change func(name, text string) string) map[string]string {
		fsys := fstest.MapFS{}
		require.NoError(t, fs.WalkDir(demo.Estate(), ".", func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			text, err := fs.ReadFile(demo.Estate(), name)
			fsys[name] = &fstest.MapFile{Data: []byte(change(name, string(text)))}
			return err
		}))
		out := map[string]string{}
		for _, f := range run(t, fsys, suite.All(), b).Findings {
			assert.Empty(t, out[f.ID], "two findings have one identity: %s", f.Message)
			assert.Regexp(t, "^[0-9a-f]{16}$", f.ID)
			out[f.ID] = f.Check + " " + f.At.Text
		}
		return out
	}
	as := ids(func(_, text string) string { return text })
	require.Greater(t, len(as), 20)
	moved := ids(func(name, text string) string {
		if strings.HasSuffix(name, ".conf") || strings.HasSuffix(name, ".nft") || strings.HasSuffix(name, ".rules") {
			return "# a line\n\n" + text
		}
		return text
	})
	assert.Equal(t, as, moved)
	shorter := ids(func(_, text string) string { return strings.ReplaceAll(text, "rekey_time = 48h", "rekey_time = 47h") })
	assert.Equal(t, slices.Sorted(maps.Keys(as)), slices.Sorted(maps.Keys(shorter)))
}
