// Package layers holds the test that imports only point down.
package layers

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are those of docs/architecture.md, the highest first. A package may import what is in a lower layer, and what is below its own
// folder's name in the same.
var layers = [][]string{
	{"cmd"},
	{"internal/cli", "internal/gendocs"},
	{"report"},
	{"changes", "tunnels", "fix", "sheet", "keys"},
	{"audit"},
	{"mirror", "observe"},
	{"follow", "export"},
	{"negotiate"},
	{"baseline"},
	{"pair"},
	{"estate"},
	{"read", "demo"},
	{"walk"},
	{"daemon", "syntax"},
	{"model"},
	{"present"},
	{"ike", "packet", "source"},
	{
		"internal/strictyaml", "internal/disk", "internal/progress", "internal/memory", "internal/strength", "internal/lazy",
		"internal/cache", "internal/record", "internal/spread", "internal/cputime",
	},
}

// outside are libraries that one package alone may use.
var outside = map[string][]string{
	"github.com/spf13/cobra":       {"internal/cli", "internal/gendocs"},
	"github.com/jedib0t/go-pretty": {"internal/cli", "report"},
}

func layerOf(pkg string) int {
	return slices.IndexFunc(layers, func(packages []string) bool {
		return slices.ContainsFunc(packages, func(r string) bool { return pkg == r || strings.HasPrefix(pkg, r+"/") })
	})
}

// sideways are the imports that do not point down and are meant: the helpers at the bottom clean what they say.
var sideways = map[[2]string]bool{
	{"internal/strictyaml", "source"}: true,
	{"internal/disk", "source"}:       true,
	{"source", "internal/lazy"}:       true,
}

func TestImportsPointDown(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		pkg := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../../"))
		here := layerOf(pkg)
		if here < 0 { // lab and the like stand beside the layers
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, imp := range f.Imports {
			name, _ := strconv.Unquote(imp.Path.Value)
			for lib, packages := range outside {
				if strings.HasPrefix(name, lib) {
					assert.True(
						t,
						slices.ContainsFunc(packages, func(r string) bool { return strings.HasPrefix(pkg, r) }),
						"%s imports %s",
						path,
						name,
					)
				}
			}
			to, ours := strings.CutPrefix(name, "toril/")
			there := layerOf(to)
			if !ours || sideways[[2]string{pkg, to}] {
				continue
			}
			seen++
			within := func(p string) string { return strings.SplitN(p, "/", 2)[0] }
			assert.True(
				t,
				there > here || there == here && within(pkg) == within(to) || there == here && here == len(layers)-2,
				"%s imports %s, which is above it or beside it",
				path,
				to,
			)
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, seen, 200)
}

// TestLinesAreShort finds lines of more than 140 columns; raw text goes as it is, and blanks that align values do not count.
func TestLinesAreShort(t *testing.T) {
	blanks := regexp.MustCompile(` {2,}`)
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, text, parser.ParseComments)
		require.NoError(t, err)
		raw := map[int]bool{}
		ast.Inspect(f, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && strings.HasPrefix(l.Value, "`") {
				for line := files.Position(l.Pos()).Line; line <= files.Position(l.End()).Line; line++ {
					raw[line] = true
				}
			}
			return true
		})
		for i, line := range strings.Split(string(text), "\n") {
			line = strings.ReplaceAll(blanks.ReplaceAllString(line, " "), "\t", "    ")
			if n := utf8.RuneCountInString(line); n > 140 && !raw[i+1] {
				t.Errorf("%s:%d has %d columns", path, i+1, n)
			}
		}
		return nil
	})
	require.NoError(t, err)
}

// TestLongFunctionsSayWhy: a function longer than a screen says why, or is parted.
func TestLongFunctionsSayWhy(t *testing.T) {
	const screen = 66
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, parser.ParseComments)
		require.NoError(t, err)
		for _, decl := range f.Decls {
			fn, ok := decl.(*ast.FuncDecl)
			if !ok || files.Position(fn.End()).Line-files.Position(fn.Pos()).Line < screen {
				continue
			}
			assert.Regexp(t, `(?s)\b[Ii]t\s+is\s+long\s`, fn.Doc.Text(), "%s: %s", path, fn.Name.Name)
		}
		return nil
	})
	require.NoError(t, err)
}

// TestNothingLeavesTheProgram: it can open no connection and start no other program, as nothing that could is in it.
func TestNothingLeavesTheProgram(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "toril/cmd/toril").Output()
	require.NoError(t, err)
	deps := strings.Fields(string(out))
	require.Contains(t, deps, "toril/audit")
	for _, never := range []string{"os/exec", "net/http", "net/rpc", "net/smtp", "plugin", "log/syslog", "crypto/tls"} {
		assert.NotContains(t, deps, never)
	}
}
