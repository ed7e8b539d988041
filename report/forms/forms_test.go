package forms_test

import (
	"toril/pair"
	"toril/present"
	"toril/report/forms"
	"toril/report/json"
	"toril/report/junit"
	"toril/report/markdown"
	"toril/report/sarif"
	"toril/report/text"

	"bytes"
	"context"
	stdjson "encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	oasis "github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/follow"
	"toril/model"
	"toril/model/settings"
	"toril/negotiate"
	"toril/read/formats"
	"toril/report"
	"toril/sheet"
	"toril/source"
	"toril/tunnels"
)

func demoEstate(t *testing.T) *pair.Whole {
	t.Helper()
	e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	return e
}

func demoResult(t *testing.T) *audit.Result {
	t.Helper()
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), demoEstate(t).Estate, suite.All(), b, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return r
}

func trips(t *testing.T, e *pair.Whole, at, from, to string, down bool) []*follow.Trip {
	t.Helper()
	src, err := follow.ParsePlace(from)
	require.NoError(t, err)
	dst, err := follow.ParsePlace(to)
	require.NoError(t, err)
	set, err := follow.Packets(src, dst, "")
	require.NoError(t, err)
	out, err := follow.Ask(e, follow.Question{Gateway: e.Gateway(at), Packets: set, Down: down})
	require.NoError(t, err)
	return out
}

// writers are all texts, on the demonstration estate.
func writers(t *testing.T) map[string]func(io.Writer, report.Look) error {
	r := demoResult(t)
	e := demoEstate(t)
	return map[string]func(io.Writer, report.Look) error{
		"audit": func(w io.Writer, l report.Look) error { return text.Form.Audit(w, audited(r), report.Options{Look: l}) },
		"tunnels": func(w io.Writer, l report.Look) error {
			return text.Form.Tunnels(w, e, tunnels.Of(e, settings.All()), report.Options{Look: l})
		},
		"ends": func(w io.Writer, l report.Look) error {
			return text.Form.Ends(w, e, negotiate.Compare(e, settings.All()), report.Options{Look: l})
		},
		"formats": func(w io.Writer, l report.Look) error {
			return text.Form.Formats(w, formats.All(), report.Options{Look: l})
		},
		"follow": func(w io.Writer, l report.Look) error {
			return text.Form.Follow(
				w,
				e,
				report.Asked{Gateway: "headland", From: "10.30.0.10", To: "10.20.0.0/24"},
				trips(t, e, "headland", "10.30.0.10", "10.20.0.0/24", false),
				report.Options{Look: l},
			)
		},
	}
}

func TestTextsFitTheirWidthAndHaveNoColourUnasked(t *testing.T) {
	for name, write := range writers(t) {
		for _, width := range []int{80, 100, 140} {
			var b bytes.Buffer
			require.NoError(t, write(&b, report.Look{Width: width}), name)
			assert.NotContains(t, b.String(), "\x1b", name)
			long := 0
			for line := range strings.Lines(b.String()) {
				if len([]rune(strings.TrimRight(line, "\n"))) > width+40 { // names and places are not broken
					long++
				}
			}
			assert.Zero(t, long, "%s at %d columns", name, width)
		}
		var b bytes.Buffer
		require.NoError(t, write(&b, report.Look{Width: 100, Color: true}), name)
		assert.Contains(t, b.String(), "\x1b[", name)
		for line := range strings.Lines(b.String()) {
			if last := strings.LastIndex(line, "\x1b["); last >= 0 {
				assert.True(t, strings.HasPrefix(line[last:], "\x1b[0m"), "%s: a colour ends in its line: %q", name, line)
			}
		}
	}
}

func TestTextsAreTheSameEachTime(t *testing.T) {
	first, second := map[string]string{}, map[string]string{}
	for _, into := range []map[string]string{first, second} {
		for name, write := range writers(t) {
			var b bytes.Buffer
			require.NoError(t, write(&b, report.Look{Width: 100}))
			into[name] = b.String()
		}
	}
	assert.Equal(t, first, second)
}

// full is a writer that takes a few bytes and then no more.
type full struct{ left int }

func (f *full) Write(p []byte) (int, error) {
	if f.left -= len(p); f.left < 0 {
		return 0, errors.New("the disk is full")
	}
	return len(p), nil
}

func TestAFullDiskIsAnError(t *testing.T) {
	for name, write := range writers(t) {
		assert.ErrorContains(t, write(&full{200}, report.Look{Width: 100}), "the disk is full", name)
	}
}

func TestSecretsShowInNoOutput(t *testing.T) {
	r, e := demoResult(t), demoEstate(t)
	var b bytes.Buffer
	for _, write := range writers(t) {
		require.NoError(t, write(&b, report.Look{}))
	}
	require.NoError(t, json.Form.Audit(&b, audited(r), report.Options{}))
	require.NoError(t, json.Form.Ends(&b, e, negotiate.Compare(e, settings.All()), report.Options{}))
	require.NoError(t, json.Form.Tunnels(&b, e, tunnels.Of(e, settings.All()), report.Options{}))
	for _, secret := range []string{"buoyyard2019", "hV3x9QmTz7LwRk2PbYc8NsGd4JfAe6Uo", "0sY29tbW9u"} {
		assert.NotContains(t, b.String(), secret)
	}
}

func TestFollowSaysItsVerdictFirst(t *testing.T) {
	e := demoEstate(t)
	for _, c := range []struct {
		at, from, to string
		down         bool
		want         string
	}{
		{"headland", "10.30.0.10", "10.20.0.9:443", false, "encrypted by headland/skerry/lights; delivered by skerry via lan; the " +
			"reply returns"},
		{"headland", "10.30.0.10", "10.20.0.9:22", false, "dropped at headland: policy drop in chain forward, " +
			"headland/nftables.conf:21:9"},
		{"headland", "10.30.0.10", "10.20.0.9:443", true, "dropped at headland: policy skerry/lights blocks it: no SA is up"},
		{"buoyyard", "10.40.0.10", "10.10.0.9:443", false, "encrypted by buoyyard/lampwright/centre; delivered by lampwright via " +
			"lan; the reply returns"},
		{"buoyyard", "10.40.0.10", "10.10.0.9:22", false, "encrypted by buoyyard/lampwright/centre; dropped at lampwright: policy " +
			"drop in chain forward"},
		{"headland", "10.30.0.10", "203.0.113.1:80", false, "dropped at headland: policy drop in chain forward"},
	} {
		var b bytes.Buffer
		require.NoError(
			t,
			text.Form.Follow(
				&b,
				e,
				report.Asked{Gateway: c.at, From: c.from, To: c.to, Down: c.down},
				trips(t, e, c.at, c.from, c.to, c.down),
				report.Options{Look: report.Look{Width: 200}},
			),
		)
		lines := strings.Split(b.String(), "\n")
		assert.True(t, strings.HasPrefix(lines[0], c.from+" to "+c.to), lines[0])
		assert.True(t, strings.HasPrefix(lines[1], c.want), "%s > %s: %s", c.from, c.to, lines[1])
	}
}

func TestFollowJSONTellsTheWholeWay(t *testing.T) {
	e := demoEstate(t)
	var b bytes.Buffer
	require.NoError(
		t,
		json.Form.Follow(
			&b,
			e,
			report.Asked{Gateway: "headland", From: "10.30.0.10", To: "10.20.0.9:443"},
			trips(t, e, "headland", "10.30.0.10", "10.20.0.9:443", false),
			report.Options{},
		),
	)
	var j struct {
		Schema string
		Trips  []struct {
			Gateway, In string
			Parts       []struct {
				Fate, Policy string
				Onward       *struct {
					Gateway string
					Parts   []struct {
						Fate, Out string
						Answer    []struct{ Gateway string }
					}
				}
			}
		}
	}
	require.NoError(t, stdjson.Unmarshal(b.Bytes(), &j))
	assert.Equal(t, "toril-follow/1", j.Schema)
	require.Len(t, j.Trips, 1)
	assert.Equal(t, "lan", j.Trips[0].In)
	require.Len(t, j.Trips[0].Parts, 1)
	p := j.Trips[0].Parts[0]
	assert.Equal(t, "encrypted", p.Fate)
	assert.Equal(t, "skerry/lights", p.Policy)
	require.NotNil(t, p.Onward)
	assert.Equal(t, "skerry", p.Onward.Gateway)
	require.Len(t, p.Onward.Parts, 1)
	assert.Equal(t, "in clear", p.Onward.Parts[0].Fate)
	require.Len(t, p.Onward.Parts[0].Answer, 2)
	assert.Equal(t, "headland", p.Onward.Parts[0].Answer[1].Gateway)
}

func TestSheets(t *testing.T) {
	e := demoEstate(t)
	for _, tu := range e.Tunnels {
		for _, end := range tu.Ends {
			var b bytes.Buffer
			all := []present.Document{sheet.Of(e, tu, end, settings.All(), "comes up", []string{"something"})}
			require.NoError(t, markdown.Form.Documents(&b, "sheet", all, report.Options{}))
			text := b.String()
			assert.True(t, strings.HasPrefix(text, "# Tunnel of "+end.Name()+" to "), text)
			for _, want := range []string{
				"| own address | ", "| IKE proposals | ", "| own networks | ", "| PFS | ", "| UDP 500 | ",
				"| largest inner packet (inner MTU) | ", "## Three tests, with the answers expected", "- something",
			} {
				if want == "| largest inner packet (inner MTU) | " && sheetWithout(tu) {
					continue
				}
				assert.Contains(t, text, want, end.Name())
			}
			head := 0
			for line := range strings.Lines(text) {
				if n := strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"); !strings.HasPrefix(line, "|") {
					head = 0
				} else if head == 0 {
					head = n
				} else {
					assert.Equal(t, head, n, "a row has the cells of its table: %s", line)
				}
			}
			for _, k := range end.Gateway.Keys {
				if k.Given() {
					assert.NotContains(t, text, k.Secret.Reveal())
				}
			}
			for _, form := range forms.All() {
				if form.Documents != nil {
					assert.NoError(t, form.Documents(&b, "sheet", all, report.Options{}))
				}
			}
		}
	}
}

// sheetWithout reports whether no suite of a tunnel is known, so that nothing is computed from it.
func sheetWithout(tu *pair.Tunnel) bool {
	return !slices.ContainsFunc(negotiate.Tunnel(tu), func(a negotiate.Attempt) bool {
		return slices.ContainsFunc(a.Children, func(c negotiate.Child) bool { return c.Outcome == negotiate.Agrees })
	})
}

func TestEndsDisagree(t *testing.T) {
	var all, only bytes.Buffer
	e := demoEstate(t)
	compared := negotiate.Compare(e, settings.All())
	assert.True(t, slices.ContainsFunc(compared, negotiate.Compared.Disagrees))
	require.NoError(t, text.Form.Ends(&all, e, compared, report.Options{Look: report.Look{Width: 120}}))
	require.NoError(t, text.Form.Ends(&only, e, compared, report.Options{Look: report.Look{Width: 120}, OnlyDifferences: true}))
	assert.Greater(t, all.Len(), only.Len())
	assert.Contains(t, only.String(), "both ends match", "of headland and skerry nothing is left")
	assert.NotContains(t, only.String(), "liveness check")
}

func TestEveryCheckHasAPage(t *testing.T) {
	var bs []*baseline.Baseline
	for _, name := range baseline.Names() {
		b, err := baseline.Named(name)
		require.NoError(t, err)
		bs = append(bs, b)
	}
	for _, c := range suite.All() {
		page := markdown.CheckPage(c, bs)
		assert.Contains(t, page, c.Name)
		assert.Contains(t, page, c.Title)
		assert.NotEmpty(t, c.Doc.Sources, c.Name)
		assert.True(t, strings.HasSuffix(markdown.PageName(c), ".md"))
		assert.NotContains(t, markdown.PageName(c), "/")
		var b bytes.Buffer
		require.NoError(t, text.Explain(&b, c, bs, report.Look{Width: 100}))
		assert.Contains(t, b.String(), c.Name)
	}
}

// TestANewSettingIsOneRow adds a row to the table: it is in every comparison and sheet, for people and for programs.
func TestANewSettingIsOneRow(t *testing.T) {
	e := demoEstate(t)
	table := append(
		settings.All(),
		settings.More(
			settings.Row{Name: "tide-offset", Term: "tide offset", Of: settings.OfConnection, Relation: settings.Equal, Unit: "s"},
		).Row,
	)
	tu := e.Tunnels[0]
	require.Len(t, tu.Ends, 2)
	for i, value := range []string{"seven", "nine"} {
		tu.Ends[i].Connection.More = map[string]model.Setting[string]{"tide-offset": model.Say(value, source.Pos{File: "f", Line: 1})}
	}
	look := report.Look{Width: 140}
	for name, write := range map[string]func(io.Writer) error{
		"tunnels": func(w io.Writer) error {
			return text.Form.Tunnels(w, e, tunnels.Of(e, table), report.Options{Look: look})
		},
		"tunnels JSON": func(w io.Writer) error { return json.Form.Tunnels(w, e, tunnels.Of(e, table), report.Options{}) },
		"ends": func(w io.Writer) error {
			return text.Form.Ends(w, e, negotiate.Compare(e, table), report.Options{Look: look, OnlyDifferences: true})
		},
		"ends JSON": func(w io.Writer) error {
			return json.Form.Ends(w, e, negotiate.Compare(e, table), report.Options{OnlyDifferences: true})
		},
	} {
		var b bytes.Buffer
		require.NoError(t, write(&b))
		for _, want := range []string{"tide offset", "seven", "nine"} {
			assert.Contains(t, b.String(), want, name)
		}
	}
	s := []present.Document{sheet.Of(e, tu, tu.Ends[0], table, "", nil)}
	for name, write := range map[string]func(io.Writer) error{
		"sheet":      func(w io.Writer) error { return markdown.Form.Documents(w, "sheet", s, report.Options{}) },
		"sheet JSON": func(w io.Writer) error { return json.Form.Documents(w, "sheet", s, report.Options{}) },
	} {
		var b bytes.Buffer
		require.NoError(t, write(&b))
		assert.Contains(t, b.String(), "tide offset", name)
		assert.Contains(t, b.String(), "seven", name)
	}
}

// TestTheReportIsShort: at most 90 lines for 25 findings of the whole demonstration estate; of five gateways that have just 25, of which
// one is open, at most 100: what it rests on is said once above and once beside it.
func TestTheReportIsShort(t *testing.T) {
	r := demoResult(t)
	lines := func(o report.Options) int {
		var b bytes.Buffer
		require.NoError(t, text.Form.Audit(&b, audited(r), o))
		return strings.Count(b.String(), "\n")
	}
	short, whole := lines(report.Options{Look: report.Look{Width: 100}}), lines(report.Options{Look: report.Look{Width: 100}, All: true})
	assert.LessOrEqual(t, short*25, 90*len(r.Findings), "%d lines for %d findings", short, len(r.Findings))
	assert.Greater(t, whole, 2*short, "--all tells everything")
	t.Logf("%d lines for %d findings, %d with --all", short, len(r.Findings), whole)
	few := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(demo.Estate(), ".", func(name string, d fs.DirEntry, err error) error {
		gateway, _, _ := strings.Cut(name, "/")
		if err != nil || d.IsDir() || !slices.Contains([]string{"lampwright", "buoyyard", "quayside", "skerry", "headland"}, gateway) {
			return err
		}
		data, err := fs.ReadFile(demo.Estate(), name)
		few[name] = &fstest.MapFile{Data: data}
		return err
	}))
	e, err := pair.LoadFS(context.Background(), few, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	r, err = audit.Run(context.Background(), e, suite.All(), r.Baseline, r.Now)
	require.NoError(t, err)
	require.Len(t, r.Findings, 25)
	assert.LessOrEqual(t, lines(report.Options{Look: report.Look{Width: 100}}), 100)
}

// oasisSchema is the published JSON Schema, which stands as a text in the library that the tests read SARIF with.
func oasisSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/owenrumney/go-sarif/v3").Output()
	require.NoError(t, err)
	source, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(dir)), "pkg/report/v210/sarif/schema.go"))
	require.NoError(t, err)
	_, text, _ := strings.Cut(string(source), "`")
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text[:strings.LastIndex(text, "`")]))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("sarif.json", doc))
	s, err := c.Compile("sarif.json")
	require.NoError(t, err)
	return s
}

// TestSARIFMeetsItsSchema: every finding is a result, with a rule, a column, a fingerprint of its own and, where it is accepted, a
// suppression.
func TestSARIFMeetsItsSchema(t *testing.T) {
	r := demoResult(t)
	r.Findings[3].Accepted = &estate.Exception{Reason: "because", Owner: "Ada", Until: time.Unix(0, 0)}
	var b bytes.Buffer
	require.NoError(t, sarif.Form.Audit(&b, audited(r), report.Options{}))
	doc, err := oasis.FromBytes(b.Bytes())
	require.NoError(t, err)
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
	require.NoError(t, err)
	require.NoError(t, oasisSchema(t).Validate(v))
	require.Len(t, doc.Runs, 1)
	run := doc.Runs[0]
	require.Len(t, run.Results, len(r.Findings))
	assert.Len(t, run.Tool.Driver.Rules, len(suite.All()))
	seen := map[string]bool{}
	for i, x := range run.Results {
		f := r.Findings[i]
		assert.Equal(t, f.Check, *x.RuleID)
		assert.Equal(t, f.Check, *run.Tool.Driver.Rules[x.RuleIndex].ID)
		id := x.PartialFingerprints["torilFinding/v1"]
		assert.False(t, seen[id])
		seen[id] = true
		region := x.Locations[0].PhysicalLocation.Region
		assert.Equal(t, f.At.Line, *region.StartLine)
		assert.Positive(t, *region.StartColumn)
		assert.Len(t, x.Suppressions, map[bool]int{true: 1}[i == 3])
	}
}

// TestJUnitCountsWhatFailed: what is at or above the limit failed, the rest is skipped, and a check that found nothing passed.
func TestJUnitCountsWhatFailed(t *testing.T) {
	r := demoResult(t)
	high := 0
	fired := map[string]bool{}
	for _, f := range r.Findings {
		fired[f.Check] = true
		if f.Severity >= audit.High {
			high++
		}
	}
	var b bytes.Buffer
	require.NoError(t, junit.Form.Audit(&b, audited(r), report.Options{FailOn: audit.High}))
	out := b.String()
	assert.Equal(t, high, strings.Count(out, "<failure "))
	assert.Equal(t, len(r.Findings)-high+len(r.Doubtful()), strings.Count(out, "<skipped>"))
	doubts := len(r.Doubtful())
	assert.Positive(t, doubts, "each is a case of its own, which is skipped")
	assert.Equal(t, len(r.Findings)+len(suite.All())-len(fired)+doubts, strings.Count(out, "<testcase "))
}

// TestForms finds every kind of result in text and JSON, or in Markdown and JSON, and says which there are.
func TestForms(t *testing.T) {
	for want, can := range map[string]func(report.Form) bool{
		"text json": func(f report.Form) bool {
			return f.Audit != nil && f.Tunnels != nil && f.Ends != nil && f.Follow != nil && f.Defaults != nil
		},
		"text markdown json html csv": func(f report.Form) bool { return f.Documents != nil },
	} {
		assert.Equal(t, want, strings.Join(forms.Can(can), " "))
		f, err := forms.Named("json", can)
		require.NoError(t, err)
		assert.Equal(t, "json", f.Name)
		_, err = forms.Named("warble", can)
		assert.ErrorContains(t, err, `unknown format "warble"; known are: `+strings.ReplaceAll(want, " ", ", "))
	}
}

// TestEveryFormTellsOfTheOthers: where a finding stands for many.
func TestEveryFormTellsOfTheOthers(t *testing.T) {
	r := demoResult(t)
	r.Findings, r.Tunnels = r.Findings[:1], nil
	r.Findings[0].Others = audit.Places{{Line: 900}, {Line: 901}, {Line: 1000, Col: 7}}
	for _, f := range forms.All() {
		if f.Audit == nil {
			continue
		}
		for _, all := range []bool{false, true} {
			var b bytes.Buffer
			require.NoError(t, f.Audit(&b, audited(r), report.Options{Look: report.Look{Width: 100}, All: all}), f.Name)
			assert.Regexp(t, `900(-901|, 901|",\s+"901"), |900",\s+"901"`, b.String(), f.Name)
			assert.Contains(t, b.String(), "1000:7", f.Name)
		}
	}
	many := audit.Places{}
	for line := range 100 {
		many = append(many, audit.Place{Line: 1 + 2*line})
	}
	assert.Equal(t, "1, 3, 5, 7, 9, 11, 13, 15, 17, 19, 90 more ranges", many.String())
	assert.Len(t, many.List(), 100)
	assert.Equal(t, "1:5, 1:9, 2-4", audit.Places{{Line: 1, Col: 5}, {Line: 1, Col: 9}, {Line: 2}, {Line: 3}, {Line: 4}}.String())
}

// audited is a result with what forms need beside it.
func audited(r *audit.Result) *report.Audited {
	return &report.Audited{Result: r, Checks: suite.All(), More: func() (*report.More, error) { return &report.More{}, nil }}
}
