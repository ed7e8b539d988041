package forms_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/internal/spread"
	"toril/pair"
	"toril/read/formats"
	"toril/read/readtest"
	"toril/report"
	"toril/report/json"
	"toril/report/sarif"
)

// TestNothingElseChanges holds what is made of every sample, every case and the demonstration estate: the model of its gateways, what is
// found, as JSON and as SARIF. testdata/digests.txt has a digest of each. TORIL_WRITE_WANTS writes it; TORIL_DUMP names a folder for the
// texts themselves, so that those of two states of the program can be compared.
func TestNothingElseChanges(t *testing.T) {
	estates := map[string]fs.FS{"demo": demo.Estate()}
	for _, pattern := range []string{"*.txtar", "cases/*.txtar"} {
		files, err := filepath.Glob(filepath.Join("../../audit/suite/testdata", pattern))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			ar, err := txtar.ParseFile(file)
			require.NoError(t, err)
			ar.Files = slices.DeleteFunc(ar.Files, func(f txtar.File) bool { return strings.HasPrefix(f.Name, "want") })
			name, err := filepath.Rel("../../audit/suite/testdata", file)
			require.NoError(t, err)
			estates[strings.TrimSuffix(filepath.ToSlash(name), ".txtar")], err = txtar.FS(ar)
			require.NoError(t, err)
		}
	}
	var names []string
	for name := range estates {
		names = append(names, name)
	}
	slices.Sort(names)
	lines := make([]string, len(names))
	spread.InShares(len(names), 1, func(i int) { lines[i] = digests(t, names[i], estates[names[i]]) })
	if os.Getenv("TORIL_WRITE_WANTS") != "" {
		require.NoError(t, os.WriteFile("testdata/digests.txt", []byte(strings.Join(lines, "\n")+"\n"), 0o644))
	}
	data, err := os.ReadFile("testdata/digests.txt")
	require.NoError(t, err)
	want := map[string]string{}
	for line := range strings.Lines(string(data)) {
		name, _, _ := strings.Cut(line, " ")
		want[name] = strings.TrimSpace(line)
	}
	if len(want) != len(names) {
		t.Errorf("%d estates, and digests of %d", len(names), len(want))
	}
	for i, name := range names {
		if lines[i] != want[name] {
			t.Errorf("another outcome\n was %s\n is  %s", want[name], lines[i])
		}
	}
}

// digests is a line of an estate's name and the digests of its model, of its JSON and of its SARIF.
func digests(t *testing.T, name string, fsys fs.FS) string {
	e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	if err != nil {
		return name + " " + err.Error()
	}
	var model, asJSON, asSARIF bytes.Buffer
	for _, g := range e.Gateways {
		fmt.Fprintf(&model, "== %s\n%s\n%s\n%s\n%s\n%s\n", g.Name, readtest.Everything(g), readtest.Rules(g), readtest.Network(g),
			strings.Join(readtest.Unread(g), "\n"), strings.Join(readtest.Problems(g), "\n"))
	}
	b, err := baseline.Named(baseline.Default)
	if err != nil {
		return name + " " + err.Error()
	}
	r, err := audit.Run(context.Background(), e.Estate, suite.All(), b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
	if err != nil {
		return name + " " + err.Error()
	}
	all := &report.Audited{Result: r}
	for _, err := range []error{
		json.Form.Audit(&asJSON, all, report.Options{}), sarif.Form.Audit(&asSARIF, all, report.Options{}),
	} {
		if err != nil {
			return name + " " + err.Error()
		}
	}
	line := name
	for kind, text := range []bytes.Buffer{model, asJSON, asSARIF} {
		line += fmt.Sprintf(" %x", sha256.Sum256(text.Bytes()))[:17]
		if dir := os.Getenv("TORIL_DUMP"); dir != "" {
			file := filepath.Join(dir, strings.ReplaceAll(name, "/", "-")+[]string{".model", ".json", ".sarif"}[kind])
			if err := os.WriteFile(file, text.Bytes(), 0o644); err != nil {
				t.Error(err)
			}
		}
	}
	return line
}
