//go:build lab

// Package mutants changes the program in one place at a time and asks whether the tests notice. The changes are found in the
// source itself: every branch of the named functions and files turned round, every default of a daemon replaced, every demand of
// a baseline asked for no more, every hook of a packet's way exchanged for the next one. All of them are compiled once, each
// behind its own number; a test program is then run once a number.
package mutants

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
)

// switches is what the changed program gets in addition: the number that is on, and the changes.
const switches = `package mutant

import (
	"os"
	"reflect"
	"strconv"
)

var on, _ = strconv.Atoi(os.Getenv("TORIL_MUTANT"))

// Not turns a condition round.
func Not(n int, c bool) bool { return c != (on == n) }

// Other is another value of the same type.
func Other[T any](n int, v T) T { return OtherAny(n, v).(T) }

// OtherAny is Other of a value whose type is not known here.
func OtherAny(n int, v any) any {
	if on != n {
		return v
	}
	r := reflect.New(reflect.TypeOf(v)).Elem()
	was := reflect.ValueOf(v)
	switch r.Kind() {
	case reflect.Bool:
		r.SetBool(!was.Bool())
	case reflect.Int, reflect.Int64:
		r.SetInt(was.Int() + max(1, was.Int()/3))
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		r.SetUint(was.Uint() + 1)
	case reflect.String:
		r.SetString(was.String() + "x")
	case reflect.Pointer:
		r.Set(reflect.New(r.Type().Elem()))
	case reflect.Slice:
		switch was.Len() {
		case 0:
			r.Set(reflect.MakeSlice(r.Type(), 1, 1))
		case 1:
		default:
			r.Set(was.Slice(1, was.Len()))
		}
	}
	return r.Interface()
}
`

// take lets the default of a setting be changed, whose type only the call knows.
const take = `package table

import (
	"toril/model"
	"toril/internal/mutant"
)

// Changed is Take with another default.
func Changed[T any](n int, s *Section, parse func(string) (T, error), key string) model.Setting[T] {
	set := Take(s, parse, key)
	if set.IsDefault() {
		set.Value = mutant.Other(n, set.Value)
	}
	return set
}

// ChangedRead is Read with another default.
func ChangedRead[T any](n int, s *Section, key string) model.Setting[T] {
	set := Read[T](s, key)
	if set.IsDefault() {
		set.Value = mutant.Other(n, set.Value)
	}
	return set
}

// ChangedReadOr is ReadOr with another default.
func ChangedReadOr[T any](n int, s *Section, byDefault T, key string) model.Setting[T] {
	return ReadOr(s, mutant.Other(n, byDefault), key)
}

// ChangedOr is TakeOr with another default.
func ChangedOr[T any](n int, s *Section, byDefault T, parse func(string) (T, error), key string) model.Setting[T] {
	return TakeOr(s, mutant.Other(n, byDefault), parse, key)
}
`

// rows lets the default of a keyword's row be changed.
const rows = `package daemon

import (
	"reflect"

	"toril/internal/mutant"
)

// Changed is a row with another default.
func Changed(n int, k Keyword) Keyword {
	follows := k.Follows
	k.Follows = func(s Subject) any {
		if follows != nil {
			return mutant.OtherAny(n, follows(s))
		}
		var value string
		for _, d := range Table("", "", "", k.Lines) {
			if d.Since == "" || s.Has(d.Since) {
				value = d.Value
			}
		}
		v := reflect.Zero(k.Sets.Takes()).Interface()
		if value != "" {
			v, _ = k.read(value)
		}
		return mutant.OtherAny(n, v)
	}
	return k
}
`

// A group of places, and the tests that must notice, each as a folder and the tests of it; the quickest first.
type group struct {
	files    string // a pattern
	function string // "" for all
	change   func(ast.Node) *edit
	tests    [][2]string
}

var (
	samples = [2]string{"audit/suite", "^TestSamples$"}
	estates = [2]string{"audit/suite", "^TestCases$"}
)

var groups = []group{
	{"audit/level.go", "Exposure", branch, [][2]string{{"audit", "."}, samples}},
	{"audit/*/*.go", "", demand, [][2]string{samples, {"audit/suite", "^TestEvery"}}},
	{"read/strongswan/*.go", "", byDefault, [][2]string{{"read/formats", "^TestDefaults$"}, {"read/strongswan", "^Test"}, samples}},
	{"read/libreswan/*.go", "", byDefault, [][2]string{{"read/formats", "^TestDefaults$"}, {"read/libreswan", "^Test"}, samples}},
	{"read/iked/*.go", "", byDefault, [][2]string{{"read/formats", "^TestDefaults$"}, {"read/iked", "^Test"}, samples}},
	{"walk/path.go", "", hook, [][2]string{{"walk", "^Test"}, samples}},
	{"walk/hook.go", "", branch, [][2]string{{"walk", "^Test"}, samples}},
	{"walk/chain.go", "", branch, [][2]string{{"walk", "^Test"}, samples}},
	{"walk/path.go", "", branch, [][2]string{{"walk", "^Test"}, samples, estates}},
	{"negotiate/negotiate.go", "", branch, [][2]string{{"negotiate", "^Test"}, samples}},
	{"negotiate/certificates.go", "", branch, [][2]string{{"negotiate", "^TestRules"}, {"negotiate", "^Test"}}},
	{"model/trust.go", "", branch, [][2]string{{"negotiate", "^TestRules"}, {"read/certificate", "^Test"}, {"negotiate", "^Test"}}},
	{"daemon/strongswan/*.go", "", row, [][2]string{{"read/formats", "^TestDefaults$"}, {"read/strongswan", "^Test"}, samples}},
	{"daemon/libreswan/*.go", "", row, [][2]string{{"read/formats", "^TestDefaults$"}, {"read/libreswan", "^Test"}, samples}},
}

// alike are the changes after which the program does the same, with the reason.
var alike = map[string]string{
	`daemon/libreswan/keywords.go keywords: another default: daemon.Follows("auto ~ ignore: the connection is not loaded", settings.Start,`:                     "a connection without auto= is not loaded",
	`daemon/strongswan/ipsecconf.go ipsecKeywords: another default: daemon.Follows("auto ~ ignore: the connection is not loaded", settings.Start,`:              "a connection without auto= is not loaded",
	`daemon/libreswan/keywords.go keywords: another default: daemon.Sets("fragmentation = yes", settings.Fragmentation, form.Word)`:                             "it is kept where a file says it alone",
	`daemon/strongswan/ipsecconf.go ipsecKeywords: another default: daemon.Sets("fragmentation = yes", settings.Fragmentation, form.Word)`:                      "it is kept where a file says it alone",
	`daemon/strongswan/keywords.go connKeywords: another default: daemon.Sets("fragmentation = yes", settings.Fragmentation, form.Word)`:                        "it is kept where a file says it alone",
	`daemon/strongswan/keywords.go childKeywords: another default: daemon.Follows("replay_window ~ charon.replay_window", settings.ReplayWindow, form.CNumber,`: "what strongswan.conf says, or its default, stands in its place",
	`daemon/strongswan/keywords.go remoteKeywords: another default: daemon.Follows("id ~ any", settings.PeerIdentity, identity,`:                                "any identity is the zero value, and a mutant of a structure is zero",
	`read/libreswan/libreswan.go parties: another default: table.TakeOr(f, of, func(t string) (ike.Method, error) {`:                                            "what authby= says stands in its place",
	`read/strongswan/ipsecconf.go parties: another default: table.ReadOr(f, authby.Value, side.name+"auth")`:                                                    "what authby= says stands in its place",
	`read/strongswan/ipsecconf.go selectors: another default: table.ReadOr(f, ike.Selector{HiPort: 65535}, side+"protoport")`:                                   "it is not looked at where nothing is said",
	`read/strongswan/swanctl.go party: another default: table.Read[string](f, "revocation").Value == "strict"`:                                                  "every word but strict means the same",
	`read/libreswan/libreswan.go vti: another default: table.Take(f, netip.ParsePrefix, local+"vti")`:                                                           "there is no address, and nothing like one",
	`read/strongswan/daemonconf.go settle: another default: table.TakeOr(f, to.Value, parse, key); !set.IsDefault() {`:                                          "only what is said is taken over",
}

// An edit puts text before and after a piece of the source.
type edit struct {
	from, to      token.Pos
	before, after string // with %d for the number
	what          string
}

// branch turns a condition round.
func branch(n ast.Node) *edit {
	i, ok := n.(*ast.IfStmt)
	if !ok {
		return nil
	}
	return &edit{i.Cond.Pos(), i.Cond.End(), "mutant.Not(%d, ", ")", "turned round: "}
}

// demand asks for a demand or a limit that no baseline has.
func demand(n ast.Node) *edit {
	s, ok := n.(*ast.SelectorExpr)
	if !ok {
		return nil
	}
	if of, ok := s.X.(*ast.Ident); !ok || of.Name != "baseline" || !kinds[s.Sel.Name] {
		return nil
	}
	return &edit{s.Pos(), s.End(), "mutant.Other(%d, ", ")", "not asked for: "}
}

// byDefault changes what a daemon does where nobody said anything.
func byDefault(n ast.Node) *edit {
	if x, ok := n.(*ast.ExprStmt); ok {
		unused[x.X] = true // a setting that is only read
	}
	c, ok := n.(*ast.CallExpr)
	if !ok || unused[c] {
		return nil
	}
	if of, ok := c.Fun.(*ast.IndexExpr); ok {
		if s, ok := of.X.(*ast.SelectorExpr); ok && s.Sel.Name == "Read" {
			read := "table.ChangedRead[" + types.ExprString(of.Index) + "](%d, "
			return &edit{s.Pos(), c.Lparen + 1, read, "", "another default: "}
		}
	}
	s, ok := c.Fun.(*ast.SelectorExpr)
	if ok && s.Sel.Name == "ReadOr" {
		return &edit{s.Pos(), c.Lparen + 1, "table.ChangedReadOr(%d, ", "", "another default: "}
	}
	if ok && s.Sel.Name == "Take" {
		return &edit{s.Pos(), c.Lparen + 1, "table.Changed(%d, ", "", "another default: "}
	}
	if !ok || s.Sel.Name != "TakeOr" {
		return nil
	}
	switch d := c.Args[1].(type) {
	case *ast.Ident:
		if d.Name == "nil" {
			return nil // there is none
		}
	case *ast.CompositeLit:
		if _, list := d.Type.(*ast.ArrayType); !list {
			return nil // one that is not looked at where nothing is said
		}
	}
	return &edit{s.Pos(), c.Lparen + 1, "table.ChangedOr(%d, ", "", "another default: "}
}

// row changes the default of a keyword that is a setting.
func row(n ast.Node) *edit {
	c, ok := n.(*ast.CallExpr)
	if !ok {
		return nil
	}
	s, ok := c.Fun.(*ast.SelectorExpr)
	if !ok || s.Sel.Name != "Sets" && s.Sel.Name != "Follows" {
		return nil
	}
	return &edit{c.Pos(), c.End(), "daemon.Changed(%d, ", ")", "another default: "}
}

// hook exchanges a hook for the next.
func hook(n ast.Node) *edit {
	s, ok := n.(*ast.SelectorExpr)
	if !ok {
		return nil
	}
	if of, ok := s.X.(*ast.Ident); !ok || of.Name != "model" ||
		!slices.Contains([]string{"Prerouting", "Input", "Forward", "Output", "Postrouting"}, s.Sel.Name) {
		return nil
	}
	return &edit{s.Pos(), s.End(), "mutant.Other(%d, ", ")", "another hook: "}
}

// unused are calls whose result nobody takes.
var unused = map[ast.Expr]bool{}

// kinds are the names of baseline's kinds of demands and limits.
var kinds = map[string]bool{}

// mutant is one change.
type mutant struct {
	name  string
	tests [][2]string
}

func TestTheTestsNoticeEveryChange(t *testing.T) {
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	dir := t.TempDir()
	known(t, root)
	mutants, overlay := changed(t, root, dir)
	t.Logf("%d changes", len(mutants))
	require.GreaterOrEqual(t, len(mutants), 150)
	programs := build(t, root, dir, overlay, mutants)

	tally := lab.NewTally(t, "changes to the program that the tests notice")
	begin := time.Now()
	defer func() { t.Logf("%d changes in %s", len(mutants), time.Since(begin).Round(time.Second)) }()
	var mu sync.Mutex
	var left []string
	work := make(chan int)
	var all sync.WaitGroup
	for range runtime.NumCPU() {
		all.Go(func() {
			for n := range work {
				if reason := alike[mutants[n].name]; reason != "" {
					continue
				}
				ok := noticed(t, root, programs, mutants[n], n+1)
				tally.Count(ok)
				if !ok {
					mu.Lock()
					left = append(left, fmt.Sprintf("%s (number %d)", mutants[n].name, n))
					mu.Unlock()
				}
			}
		})
	}
	require.True(t, noticedNothing(t, root, programs, mutants))
	every := 1
	if os.Getenv("TORIL_LAB_CASES") == "" { // all of them take four minutes
		every = 5
	}
	for n := 0; n < len(mutants); n += every {
		work <- n
	}
	close(work)
	all.Wait()
	slices.Sort(left)
	for _, l := range left {
		t.Errorf("nothing notices %s", l)
	}
}

// known reads the names of the kinds.
func known(t *testing.T, root string) {
	file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(root, "baseline/kinds.go"), nil, 0)
	require.NoError(t, err)
	ast.Inspect(file, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok {
			for _, name := range v.Names {
				if ast.IsExported(name.Name) && len(v.Values) == 1 {
					if u, ok := v.Values[0].(*ast.UnaryExpr); ok && u.Op == token.AND {
						kinds[name.Name] = true
					}
				}
			}
		}
		return true
	})
	require.NotEmpty(t, kinds)
}

// changed finds the places and writes the files in which all changes stand.
func changed(t *testing.T, root, dir string) (mutants []mutant, overlay string) {
	type piece struct {
		at   int
		text string
		last bool // stands before what opens at the same place
	}
	pieces := map[string][]piece{}
	sources := map[string][]byte{}
	for _, g := range groups {
		files, err := filepath.Glob(filepath.Join(root, g.files))
		require.NoError(t, err)
		slices.Sort(files)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			fset := token.NewFileSet()
			parsed, err := parser.ParseFile(fset, file, text, 0)
			require.NoError(t, err)
			for _, d := range parsed.Decls {
				in := ""
				if fn, ok := d.(*ast.FuncDecl); ok {
					in = fn.Name.Name
				}
				if g.function != "" && in != g.function {
					continue
				}
				ast.Inspect(d, func(n ast.Node) bool {
					e := g.change(n)
					if e == nil {
						return true
					}
					from, to := fset.Position(e.from).Offset, fset.Position(e.to).Offset
					n1 := len(mutants) + 1
					what := string(text[from:to])
					before := fmt.Sprintf(e.before, n1)
					if e.after == "" { // what stands there is replaced
						what = string(text[from:min(len(text), from+bytes.IndexByte(text[from:], '\n'))])
						pieces[file] = append(pieces[file], piece{from, before + "\x00" + fmt.Sprint(to-from), false})
					} else {
						pieces[file] = append(pieces[file], piece{from, before, false}, piece{to, e.after, true})
					}
					what, _, _ = strings.Cut(what, "\n")
					short, _ := filepath.Rel(root, file)
					mutants = append(mutants, mutant{fmt.Sprintf("%s %s: %s%s", short, in, e.what, what), g.tests})
					return true
				})
			}
			sources[file] = text
		}
	}
	replace := map[string]string{}
	put := func(path, text string) {
		to := filepath.Join(dir, fmt.Sprintf("%d.go", len(replace)))
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
		replace[path] = to
	}
	put(filepath.Join(root, "internal/mutant/mutant.go"), switches)
	put(filepath.Join(root, "read/table/take_or.go"), take)
	put(filepath.Join(root, "daemon/changed.go"), rows)
	for file, ps := range pieces {
		slices.SortStableFunc(ps, func(a, b piece) int {
			if a.at != b.at {
				return a.at - b.at
			}
			return map[bool]int{true: 0, false: 1}[a.last] - map[bool]int{true: 0, false: 1}[b.last]
		})
		text := sources[file]
		var b strings.Builder
		at := 0
		needs := false
		for _, p := range ps {
			b.Write(text[at:p.at])
			at = p.at
			insert, skip, replaced := strings.Cut(p.text, "\x00")
			b.WriteString(insert)
			if replaced {
				n := 0
				fmt.Sscan(skip, &n)
				at += n
			}
			needs = needs || strings.Contains(insert, "mutant.")
		}
		b.Write(text[at:])
		out := b.String()
		if needs {
			clause := strings.Index(out, "\npackage ") + 1
			if strings.HasPrefix(out, "package ") {
				clause = 0
			}
			end := clause + strings.IndexByte(out[clause:], '\n')
			out = out[:end] + `; import mutant "toril/internal/mutant"` + out[end:]
		}
		put(file, out)
	}
	data, err := json.Marshal(map[string]any{"Replace": replace})
	require.NoError(t, err)
	overlay = filepath.Join(dir, "overlay.json")
	require.NoError(t, os.WriteFile(overlay, data, 0o644))
	return mutants, overlay
}

// build compiles the test programs that are needed, with all changes in them.
func build(t *testing.T, root, dir, overlay string, mutants []mutant) map[string]string {
	programs := map[string]string{}
	for _, m := range mutants {
		for _, test := range m.tests {
			if programs[test[0]] != "" {
				continue
			}
			programs[test[0]] = filepath.Join(dir, strings.ReplaceAll(test[0], "/", "-")+".test")
			cmd := exec.Command("go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", programs[test[0]], "./"+test[0])
			cmd.Dir = root
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	return programs
}

// noticed reports whether a test fails with a change. A program that does not end in time has been noticed too.
func noticed(t *testing.T, root string, programs map[string]string, m mutant, n int) bool {
	for _, test := range m.tests {
		if fails(t, root, programs, test, n) {
			return true
		}
	}
	return false
}

func noticedNothing(t *testing.T, root string, programs map[string]string, mutants []mutant) bool {
	seen := map[[2]string]bool{}
	for _, m := range mutants {
		for _, test := range m.tests {
			if !seen[test] && fails(t, root, programs, test, 0) {
				t.Errorf("%s %s fails without a change", test[0], test[1])
				return false
			}
			seen[test] = true
		}
	}
	return true
}

func fails(t *testing.T, root string, programs map[string]string, test [2]string, n int) bool {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, programs[test[0]], "-test.failfast", "-test.run", test[1])
	cmd.Dir = filepath.Join(root, test[0])
	cmd.Env = append(os.Environ(), fmt.Sprintf("TORIL_MUTANT=%d", n), "GOMEMLIMIT=1GiB")
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Errorf("%v: %s", err, out)
	}
	if err == nil && bytes.Contains(out, []byte("no tests to run")) {
		t.Errorf("%s has no test %s", test[0], test[1])
	}
	return err != nil
}
