package suite_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/audit"
	"toril/audit/suite"
)

// fix is what is written instead, somewhere in a sample.
type fix struct {
	check, sample string
	edits         []string
}

func fixes(t *testing.T) []fix {
	data, err := os.ReadFile("testdata/fixes.txt")
	require.NoError(t, err)
	var out []fix
	for l := range strings.Lines(string(data)) {
		l = strings.TrimSuffix(l, "\n")
		switch head, ok := strings.CutPrefix(l, "== "); {
		case ok:
			check, sample, _ := strings.Cut(head, " ")
			out = append(out, fix{check: check, sample: sample})
		case l != "" && len(out) > 0:
			m := &out[len(out)-1]
			m.edits = append(m.edits, l)
		}
	}
	return out
}

// apply writes the fix into a sample's files.
func (m *fix) apply(ar *txtar.Archive) (*txtar.Archive, error) {
	out := &txtar.Archive{Comment: ar.Comment, Files: slices.Clone(ar.Files)}
	at, line := -1, 0
	var lines []string
	done := func() {
		if at >= 0 {
			out.Files[at].Data = []byte(strings.Join(lines, "\n"))
		}
	}
	bare := func(l string) string { return strings.TrimSpace(wantComment.ReplaceAllString(l, "")) }
	for _, e := range m.edits {
		name, isNew := strings.CutPrefix(e, "+++ ")
		switch {
		case isNew:
			done()
			name, old, _ := strings.Cut(name, " = ")
			text := ""
			if i := slices.IndexFunc(out.Files, func(f txtar.File) bool { return f.Name == old }); i >= 0 {
				text = string(out.Files[i].Data)
			}
			out.Files = append(out.Files, txtar.File{Name: name})
			at, line, lines = len(out.Files)-1, 0, strings.Split(text, "\n")
		case e == "- *":
			out.Files = slices.Delete(out.Files, at, at+1)
			at = -1
		case strings.HasPrefix(e, "+ "):
			text := e[2:]
			if strings.HasSuffix(out.Files[at].Name, "ipsec.conf") &&
				!strings.HasPrefix(text, "conn ") { // there, what stands at the margin begins a section
				text = "\t" + text
			}
			lines = slices.Insert(lines, line, text)
			line++
		case strings.HasPrefix(e, "- "), strings.HasPrefix(e, " "):
			find := strings.TrimSpace(strings.TrimPrefix(e, "-"))
			for ; line < len(lines) && bare(lines[line]) != find; line++ {
			}
			if line == len(lines) {
				return nil, fmt.Errorf("%q does not stand in the file, or not there", find)
			}
			if e[0] == '-' {
				lines = slices.Delete(lines, line, line+1)
			} else {
				line++
			}
		default:
			done()
			at = slices.IndexFunc(out.Files, func(f txtar.File) bool { return f.Name == e })
			if at < 0 {
				return nil, fmt.Errorf("there is no file %s", e)
			}
			line, lines = 0, strings.Split(string(out.Files[at].Data), "\n")
		}
	}
	done()
	return out, nil
}

// TestFixes writes what each check advises: findings of the check are gone then, and none of any check has come.
func TestFixes(t *testing.T) {
	tried := map[string]bool{}
	byName := map[string]*estateSample{}
	for _, s := range samples(t) {
		byName[s.name] = s
	}
	for _, m := range fixes(t) {
		t.Run(m.check, func(t *testing.T) {
			s := byName[m.sample]
			require.NotNil(t, s, m.sample)
			tried[m.check] = true
			_, base := header(t, string(s.archive.Comment))
			count := func(ar *txtar.Archive) (of int, all map[string][]*audit.Finding) {
				fsys, err := txtar.FS(ar)
				require.NoError(t, err)
				all = map[string][]*audit.Finding{}
				for _, f := range run(t, fsys, suite.All(), base).Findings {
					about := strings.Join([]string{f.Check, f.Gateway, f.Connection, f.Child}, "|")
					all[about] = append(all[about], f)
					if f.Check == m.check {
						of++
					}
				}
				return of, all
			}
			fixed, err := m.apply(s.archive)
			require.NoError(t, err)
			was, before := count(s.archive)
			is, after := count(fixed)
			assert.Less(t, is, was, "the advice changes nothing: %s", strings.Join(m.edits, "\n"))
			for about, fs := range after { // another one about the same thing is the one that was there, in other words
				for _, f := range fs[min(len(fs), len(before[about])):] {
					if f.Severity > audit.Info {
						t.Errorf("the advice brings %s:%d %s %s %s", f.At.File, f.At.Line, f.Check, f.Severity, f.Message)
					}
				}
			}
		})
	}
	for _, c := range suite.All() {
		assert.True(t, tried[c.Name], "nobody tried what %s advises", c.Name)
	}
}
