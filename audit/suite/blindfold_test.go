package suite_test

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/changes"
	"toril/demo"
	"toril/estate"
	"toril/follow"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/negotiate"
	"toril/packet"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// TestBlindfold replaces keywords, one at a time, by a word that nobody knows. Whatever is then said for certain must be what is said of
// the whole: findings, what becomes of tunnels, attempts, where packets go, and what changed between the two; unless the program that reads
// the file refuses it, and Toril says so. And what fails with the whole file fails without it. A share of the statements is tried, or all
// of them where TORIL_BLINDFOLD is "all":
//
//	TORIL_BLINDFOLD=all go test -run TestBlindfold -timeout 0 ./audit/suite
//
// Estates that fail are kept in the folder that TORIL_BLINDFOLD_KEEP names.
func TestBlindfold(t *testing.T) {
	share, random := 24, 40 // one of so many statements
	if os.Getenv("TORIL_BLINDFOLD") == "all" {
		share, random = 1, 500
	} else if n, err := strconv.Atoi(os.Getenv("TORIL_BLINDFOLD")); err == nil {
		share = n
	}
	estates := blindEstates(t, random)
	rng := rand.New(rand.NewPCG(20261201, 1))
	tried, refused, faults, stay := 0, 0, 0, 0
	for _, name := range slices.Sorted(maps.Keys(estates)) {
		files := estates[name]
		whole := answersOf(t, files)
		for _, k := range keywords(whole, files) {
			if rng.IntN(share) > 0 {
				continue
			}
			tried++
			blind := maps.Clone(files)
			text := files[k.file].Data
			blind[k.file] = &fstest.MapFile{Data: slices.Concat(text[:k.start], []byte("wobble"), text[k.end:])}
			got := answersOf(t, blind)
			if slices.ContainsFunc(slices.Collect(maps.Keys(got.refused)), func(why string) bool { return !whole.refused[why] }) {
				refused++
				continue
			}
			for _, f := range whole.faults {
				if unrelated(f, k, got.estate) {
					faults++
					if slices.ContainsFunc(got.faults, func(g *audit.Finding) bool { return g.ID == f.ID }) {
						stay++
					}
				}
			}
			complaints := got.differs(whole)
			for _, complaint := range complaints {
				t.Errorf("%s: %s:%d %q in %q: %s", name, k.file, k.line, k.word, k.statement, complaint)
			}
			if keep := os.Getenv("TORIL_BLINDFOLD_KEEP"); keep != "" && len(complaints) > 0 {
				require.NoError(
					t,
					os.CopyFS(filepath.Join(keep, fmt.Sprintf("%s %d %s %d %s", name, tried, path.Base(k.file), k.line, k.word)), blind),
				)
			}
		}
	}
	fmt.Printf("blindfold: %d statements of %d estates tried, %d refused by their programs; %d of %d faults that have nothing to do with "+
		"them stay certain\n", tried, len(estates), refused, stay, faults)
	assert.GreaterOrEqual(t, stay*100, faults*98)
}

// unrelated reports whether a fault has nothing to do with a statement that was not understood: it is about a tunnel of other gateways, or
// about the settings of a connection where the statement is of another one, or of the network or the packet filter.
func unrelated(f *audit.Finding, k keyword, e *pair.Whole) bool {
	for _, g := range e.Gateways {
		file := g.File(k.file)
		if file == nil {
			continue
		}
		if f.Tunnel != "" && f.Gateway != g.Name && !strings.Contains(f.Tunnel, g.Name) {
			return true
		}
		area, _, _ := strings.Cut(f.Check, "/")
		if !slices.Contains([]string{"ike", "esp", "pfs", "life"}, area) {
			return false
		}
		if format := e.Format(g, file.Format); format != nil && format.About&model.AboutIKE == 0 {
			return true
		}
		for _, u := range file.Unread {
			if u.At.Line == k.line && u.Doubt != nil {
				connection, _, _ := strings.Cut(u.Scope, "/")
				return f.Gateway == g.Name && connection != f.Connection && slices.ContainsFunc(g.Connections,
					func(c *model.Connection) bool { return c.Name == connection })
			}
		}
	}
	return false
}

// blindEstates are the samples, the cases, the demonstration estate and random estates, each with all its files.
func blindEstates(t *testing.T, random int) map[string]fstest.MapFS {
	estates := map[string]fstest.MapFS{"demo": copied(t, demo.Estate())}
	for _, pattern := range []string{"testdata/*.txtar", "testdata/cases/*.txtar"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			fsys, _ := caseFiles(t, file)
			estates[strings.TrimSuffix(filepath.Base(file), ".txtar")] = copied(t, fsys)
		}
	}
	for seed := range random {
		fsys, _, _ := randomEstate(seed)
		estates[fmt.Sprint("random ", seed)] = fsys
		estates[fmt.Sprint("other forms ", seed)] = otherForms(seed)
	}
	return estates
}

func copied(t *testing.T, fsys fs.FS) fstest.MapFS {
	out := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		out[name] = &fstest.MapFile{Data: data}
		return err
	}))
	return out
}

// keyword is a word of a file that its format knows.
type keyword struct {
	file            string
	word, statement string
	line            int
	start, end      int
}

var wordOf = regexp.MustCompile(`#[^\n]*|[A-Za-z_][A-Za-z0-9_-]*`)

// keywords are the words of an estate's files that their formats know, and that nobody gave to something as a name.
func keywords(whole *answers, files fstest.MapFS) []keyword {
	var out []keyword
	for _, g := range whole.estate.Gateways {
		names := map[string]bool{"Null0": true} // another word is the name of an interface
		for _, d := range g.Definitions {
			for _, part := range strings.Fields(d.Name) {
				names[part] = true
			}
		}
		for _, c := range g.Chains {
			names[c.Name], names[c.Table] = true, true
		}
		for _, i := range g.Interfaces {
			names[i.Name] = true
		}
		for _, c := range slices.Concat(g.Connections, g.Unloaded) {
			names[c.Name] = true
			for _, k := range c.Children {
				names[k.Name] = true
			}
		}
		for _, f := range g.Files {
			format := whole.estate.Format(g, f.Format)
			if format == nil || format.About&^model.AboutStatus == 0 || format.Binary {
				continue
			}
			known := map[string]bool{}
			for _, c := range format.Covers() {
				for _, w := range strings.FieldsFunc(c.Statement, func(r rune) bool {
					return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && r != '-'
				}) {
					known[strings.ToLower(w)] = true
				}
			}
			if format.Words != nil {
				for _, w := range format.Words() {
					known[strings.ToLower(w)] = true
				}
			}
			text := string(files[f.Path].Data)
			for _, at := range wordOf.FindAllStringIndex(text, -1) {
				w := text[at[0]:at[1]]
				if w[0] == '#' || !known[strings.ToLower(w)] || isName(names, text, at, w) {
					continue
				}
				begin := strings.LastIndexByte(text[:at[0]], '\n') + 1
				line, _, _ := strings.Cut(text[begin:], "\n")
				out = append(out, keyword{f.Path, w, strings.TrimSpace(line), strings.Count(text[:at[0]], "\n") + 1, at[0], at[1]})
			}
		}
	}
	return out
}

// isName reports whether a word is a name that somebody gave: then another is another name. A name that is a keyword too is one behind
// words that a name follows.
func isName(names map[string]bool, text string, at []int, w string) bool {
	if at[0] > 0 && strings.ContainsRune(`@%".:/`, rune(text[at[0]-1])) || at[1] < len(text) && text[at[1]] == '.' ||
		at[1] < len(text) && strings.ContainsRune("@:/", rune(text[at[1]])) && names[w] {
		return true
	}
	if !names[w] {
		return false
	}
	before := strings.Fields(text[max(0, at[0]-40):at[0]])
	if len(before) == 0 {
		return true
	}
	switch before[len(before)-1] {
	case "type", "hook", "policy", "priority":
		return false
	}
	return true
}

// answers are what Toril says of an estate.
type answers struct {
	estate   *pair.Whole
	side     *changes.Side
	findings map[string]audit.Severity // those that are certain, above info
	worst    map[string]audit.Severity // of the findings of a check about a subject
	said     map[string]bool           // checks and what they said, of whatever subject
	faults   []*audit.Finding          // those that are certain, of medium and above
	fails    bool                      // the exit code is 1
	refused  map[string]bool           // why programs take nothing of what they were given, or of a connection
	states   map[string]string         // of tunnels, in words; "" where it is not certain
	bad      map[string]audit.State    // of tunnels
	attempts map[string]string
	packets  map[string]*packets
}

// packets are those of a child in one direction, as they begin, by what becomes of them: for certain, and possibly.
type packets struct{ sure, may map[string]packet.Set }

func answersOf(t *testing.T, fsys fs.FS) *answers {
	e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), e.Estate, suite.All(), b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	a := &answers{
		estate: e, side: changes.Of("", r, e), fails: len(r.Problems()) > 0 || r.Fails(audit.High, false),
		findings: map[string]audit.Severity{}, worst: map[string]audit.Severity{}, said: map[string]bool{}, refused: map[string]bool{},
		states: map[string]string{}, bad: map[string]audit.State{}, attempts: map[string]string{}, packets: map[string]*packets{},
	}
	for _, g := range e.Gateways {
		for _, r := range g.Refused {
			a.refused[r.Error.Error()] = true
		}
		for _, c := range g.Connections {
			if c.Unusable != nil {
				a.refused[c.Unusable.Error()] = true
			}
		}
	}
	for _, f := range r.Findings {
		about := f.Check + " of " + f.Subject()
		if strings.HasPrefix(f.Check, "ends/") || f.Check == "key/reused" { // either end may say it
			about = f.Check + " of " + f.Tunnel
		}
		if f.Check == "key/weak" { // at either end, and in whichever words
			about = f.Check + " at " + f.At.Pos.Place().String()
			for _, e := range f.Also {
				a.worst[f.Check+" at "+e.Pos.Place().String()] = f.Severity
			}
		}
		a.said[f.Check+" "+f.Message] = true
		a.worst[about] = max(a.worst[about], f.Severity)
		if f.Severity >= audit.Medium && !f.Possible() {
			a.faults = append(a.faults, f)
		}
		if f.Severity > audit.Info && !f.Possible() {
			a.findings[about+": "+f.Message] = f.Severity
		}
	}
	for _, tu := range r.Tunnels {
		if a.states[tu.Name] = tu.Says(); tu.Certain() == audit.Unknown || tu.MayLeak || tu.MayLeakDown {
			a.states[tu.Name] = ""
		}
		a.bad[tu.Name] = tu.State
	}
	for _, tu := range e.Tunnels {
		for _, x := range negotiate.Tunnel(tu) {
			says := fmt.Sprint(x.Outcome, " ", x.IKE)
			for _, c := range x.Children {
				says += fmt.Sprint("; ", c.Of.Name, " ", c.Outcome, " ", c.Suite, " ", c.Rekey.Outcome)
			}
			if !x.Doubts.Certain() {
				says = ""
			}
			a.attempts[tu.Name+" by "+x.Initiator.Name()] = says
		}
	}
	return a
}

// differs says what is said for certain and was not said of the whole.
func (a *answers) differs(whole *answers) []string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(a.findings)) {
		about, message, _ := strings.Cut(key, ": ")
		check, _, _ := strings.Cut(about, " ")
		if whole.said[check+" "+message] {
			continue
		}
		if severity, found := whole.worst[about]; !found || severity < a.findings[key] { // another that hides it in the whole says it too
			out = append(out, fmt.Sprintf("a finding of its own: %s %s", a.findings[key], key))
		}
	}
	for name, says := range a.states {
		if _, known := whole.states[name]; !known { // its far end is another than in the whole
			first, _, _ := strings.Cut(name, " <> ")
			for other, was := range whole.states {
				if begins, _, _ := strings.Cut(other, " <> "); begins == first && was == says {
					name = other
				}
			}
		}
		if says != "" && whole.states[name] != says {
			out = append(out, fmt.Sprintf("the tunnel %s %q, of the whole %q", name, says, whole.states[name]))
		}
	}
	for name, says := range a.attempts {
		if says != "" && whole.attempts[name] != says {
			out = append(out, fmt.Sprintf("the attempt %s: %q, of the whole %q", name, says, whole.attempts[name]))
		}
	}
	if whole.fails && !a.fails {
		out = append(out, "the exit code is 0, of the whole 1")
	}
	for _, c := range changes.Compare(whole.side, a.side, settings.All()).Meaning {
		if c.Unsure == "" {
			out = append(out, "a change for certain: "+c.Subject+": "+c.Says)
		}
	}
	return append(out, a.strays(whole)...)
}

// strays says which packets of the whole's children certainly fare as they cannot by the whole.
func (a *answers) strays(whole *answers) []string {
	var out []string
	for _, tu := range whole.estate.Tunnels {
		for _, end := range tu.Ends {
			for _, k := range end.Connection.Children {
				set := ike.Domain(k.Local.Value, k.Remote.Value, tu.Own(end), tu.Peer(end))
				name := tu.Name + " from " + end.Name() + "/" + k.Name
				if whole.packets[name] == nil {
					whole.packets[name] = faresOf(whole.estate, end.Gateway.Name, set)
				}
				was, is := whole.packets[name], faresOf(a.estate, end.Gateway.Name, set)
				for fate, sure := range is.sure {
					if wrong := sure.Minus(was.may[fate]); !wrong.Empty() {
						out = append(out, fmt.Sprintf("packets of %s are %s: %s", name, fate, wrong))
					}
				}
			}
		}
	}
	return out
}

// faresOf follows packets that come to a gateway.
func faresOf(e *pair.Whole, gateway string, set packet.Set) *packets {
	out := &packets{map[string]packet.Set{}, map[string]packet.Set{}}
	g := e.Gateway(gateway)
	if g == nil || set.Empty() {
		return out
	}
	bare := func(s packet.Set) packet.Set {
		return s.Free(
			packet.In,
			packet.Out,
			packet.State,
			packet.Direction,
			packet.Translated,
			packet.Mark,
			packet.PeerIn,
			packet.PeerOut,
		)
	}
	trips, err := follow.Ask(e, follow.Question{Gateway: g, Packets: set})
	if err != nil {
		return out
	}
	add := func(to map[string]packet.Set, fate string, s packet.Set) { to[fate] = to[fate].Or(bare(s)) }
	for _, trip := range trips {
		for _, p := range trip.Parts {
			fate := string(p.Fate)
			if p.Fate != walk.Unknown {
				add(out.may, fate, p.Came)
				if p.Doubts.Certain() {
					add(out.sure, fate, p.Came)
				} else { // anything may become of them
					for _, other := range []walk.Fate{walk.Encrypted, walk.Clear, walk.Delivered, walk.Dropped} {
						add(out.may, string(other), p.Came)
					}
				}
			}
		}
	}
	return out
}

// TestBlindfoldNotices: the search finds what it is there for, where a rule is left out that another would be certain without.
func TestBlindfoldNotices(t *testing.T) {
	const exemption = "    rt ipsec exists accept\n"
	var files fstest.MapFS
	for seed := 0; files == nil; seed++ {
		fsys, _, sound := randomEstate(seed)
		if sound && strings.Contains(string(fsys["tarn/rules.nft"].Data), exemption) {
			files = fsys
		}
	}
	whole := answersOf(t, files)
	less := maps.Clone(files)
	text := string(files["tarn/rules.nft"].Data)
	less["tarn/rules.nft"] = &fstest.MapFile{Data: []byte(strings.Replace(text, exemption, "", 1))}
	complaints := strings.Join(answersOf(t, less).differs(whole), "\n")
	for _, want := range []string{"a finding of its own: critical nat/rewritten", "leaks", "packets of", "source NAT now also translates"} {
		assert.Contains(t, complaints, want)
	}
}
