package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/cli"
)

// shell runs a line as a person would type it, in the current folder: "cat FILE |" before it and "> FILE" behind it work.
func shell(t *testing.T, line string) (code int, out, errs string) {
	t.Helper()
	in := ""
	if file, rest, ok := strings.Cut(line, " | "); ok {
		data, err := os.ReadFile(strings.TrimPrefix(file, "cat "))
		require.NoError(t, err, line)
		in, line = string(data), rest
	}
	line, into, redirected := strings.Cut(line, " > ")
	var args []string
	for _, m := range regexp.MustCompile(`"([^"]*)"|\S+`).FindAllStringSubmatch(line, -1) {
		if m[1] != "" {
			m[0] = m[1]
		}
		args = append(args, m[0])
	}
	require.Equal(t, "toril", args[0], line)
	var o, e bytes.Buffer
	code = cli.Main(args[1:], strings.NewReader(in), &o, &e)
	if redirected {
		require.NoError(t, os.WriteFile(strings.TrimSpace(into), o.Bytes(), 0o644))
	}
	return code, o.String(), e.String()
}

// inDemo goes into a folder in which the demonstration estate is in estate/.
func inDemo(t *testing.T) {
	t.Helper()
	t.Chdir(t.TempDir())
	code, _, errs := toril(t, "demo", "--to", "estate")
	require.Zero(t, code, errs)
}

// TestExamplesRun runs every example of every command's help on the demonstration estate.
func TestExamplesRun(t *testing.T) {
	inDemo(t)
	ran, bare := 0, []string{}
	for _, c := range cli.Commands() {
		if c.Example == "" && !c.HasSubCommands() && c.Name() != "help" && c.Parent().Name() != "completion" {
			bare = append(bare, c.CommandPath())
		}
		for line := range strings.Lines(c.Example) {
			code, out, errs := shell(t, strings.TrimSpace(line))
			assert.NotEqual(t, 2, code, "%s\n%s", line, errs)
			assert.NotEmpty(t, out+errs, line)
			ran++
		}
	}
	assert.Empty(t, bare, "commands without an example")
	assert.Greater(t, ran, 30)
}

// TestDocumentsRun runs every command that stands in a block of docs/*.md or the README behind a "$ ", in the order of each document, in a
// folder with the demonstration estate. A line "# exit 1" before it says how it ends; else it ends with 0.
func TestDocumentsRun(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	texts := map[string]string{}
	for _, f := range append(files, "../../README.md") {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		texts[f] = string(data)
	}
	ran := 0
	for f, text := range texts {
		t.Run(filepath.Base(f), func(t *testing.T) {
			inDemo(t)
			want := 0
			for line := range strings.Lines(text) {
				line = strings.TrimSpace(line)
				if after, ok := strings.CutPrefix(line, "# exit "); ok {
					want = int(after[0] - '0')
				}
				command, is := strings.CutPrefix(line, "$ ")
				if !is || !strings.Contains(command, "toril") {
					continue
				}
				code, _, errs := shell(t, command)
				assert.Equal(t, want, code, "%s\n%s", command, errs)
				want = 0
				ran++
			}
		})
	}
	assert.Greater(t, ran, 20)
}
