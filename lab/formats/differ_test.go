//go:build lab

package formats_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/read"
	"toril/read/iptables"
	"toril/read/nftables"
	"toril/read/readtest"
)

// mutated makes n texts out of samples, each by one or a few small changes: a word left out, doubled, exchanged for another of the
// samples, a line left out, doubled or moved, a number or a sign changed.
func mutated(samples []string, n int, seed uint64) []string {
	r := rand.New(rand.NewPCG(seed, 1))
	word := regexp.MustCompile(`[A-Za-z0-9_./:@$"+-]+|[^\sA-Za-z0-9]`)
	var words []string
	for _, s := range samples {
		words = append(words, word.FindAllString(s, -1)...)
	}
	slices.Sort(words)
	words = slices.Compact(words)
	signs := []string{"{", "}", ";", ",", "\\", "\"", "#", "!", "-", ":", "=", "\n", "\r\n", "$x", "@x", "99999", "-1", "0x10", "ip6", "ip"}
	out := make([]string, n)
	for i := range out {
		text := samples[r.IntN(len(samples))]
		for range 1 + r.IntN(3) {
			at := word.FindAllStringIndex(text, -1)
			if len(at) == 0 {
				break
			}
			w := at[r.IntN(len(at))]
			lines := strings.SplitAfter(text, "\n")
			l := r.IntN(len(lines))
			switch r.IntN(9) {
			case 0:
				text = text[:w[0]] + text[w[1]:]
			case 1:
				text = text[:w[1]] + " " + text[w[0]:]
			case 2, 3:
				text = text[:w[0]] + words[r.IntN(len(words))] + text[w[1]:]
			case 4:
				text = text[:w[0]] + signs[r.IntN(len(signs))] + " " + text[w[0]:]
			case 5:
				text = strings.Join(slices.Delete(lines, l, l+1), "")
			case 6:
				text = strings.Join(slices.Insert(lines, l, lines[l]), "")
			case 7:
				m := r.IntN(len(lines))
				lines[l], lines[m] = lines[m], lines[l]
				text = strings.Join(lines, "")
			case 8:
				if n, err := strconv.Atoi(text[w[0]:w[1]]); err == nil {
					text = text[:w[0]] + strconv.Itoa(n*r.IntN(300)-1) + text[w[1]:]
				}
			}
		}
		out[i] = text
	}
	return out
}

// answer is what a program said of a text: whether it took it, what it complained of, and what it holds then.
type answer struct {
	taken      bool
	says, held string
}

// askAll has a program load each text by itself, in network namespaces of their own, and keeps its answers.
func askAll(t *testing.T, texts []string, script string) []answer {
	t.Helper()
	dir := t.TempDir()
	for i, text := range texts {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint(i)), []byte(text), 0o644))
	}
	var wg sync.WaitGroup
	parts := runtime.NumCPU()
	for p := range parts {
		wg.Go(func() {
			const batch = 500
			for from := p; from < len(texts); from += batch * parts {
				lab.InNamespace(
					t,
					fmt.Sprintf(
						`cd %s; i=%d; while [ $i -lt %d ]; do f=$i; if ( %s ) 2>$f.err; then touch $f.ok; fi; i=$((i+%d)); done`,
						dir,
						from,
						min(len(texts), from+batch*parts),
						script,
						parts,
					),
				)
			}
		})
	}
	wg.Wait()
	out := make([]answer, len(texts))
	for i := range out {
		_, err := os.Stat(filepath.Join(dir, fmt.Sprintf("%d.ok", i)))
		out[i].taken = err == nil
		errs, _ := os.ReadFile(filepath.Join(dir, fmt.Sprintf("%d.err", i)))
		held, _ := os.ReadFile(filepath.Join(dir, fmt.Sprintf("%d.held", i)))
		out[i].says, out[i].held = string(errs), string(held)
	}
	return out
}

// mutants is how many texts each program is asked about.
func mutants() int {
	if n, err := strconv.Atoi(os.Getenv("TORIL_LAB_CASES")); err == nil && n > 0 {
		return n
	}
	return 1500
}

// differ compares Toril with a program over mutated texts: a text that the program does not take leaves something refused, unread or
// wrong, one that it takes is not refused, and what it holds then means what Toril read.
func differ(t *testing.T, format *read.Format, samples []string, script string) {
	texts := mutated(samples, mutants(), 7)
	answers := askAll(t, texts, script)
	taken, reasons := 0, map[string]int{}
	disagree := 0
	for i, a := range answers {
		g := readtest.Read(format, "sample", texts[i], nil)
		doubts := len(g.Problems) + len(readtest.Unread(g))
		for _, d := range g.Definitions { // what is used and nowhere defined is a finding of its own
			if d.Missing {
				doubts++
			}
		}
		refused := g.RefusedOf(format.Name) != nil
		why := ""
		switch {
		case !a.taken && doubts == 0 && !refused:
			why = "it refuses, Toril sees nothing"
		case a.taken && refused:
			why = "it takes this, Toril says that it does not: " + g.RefusedOf(format.Name).Message
		case a.taken && doubts == 0:
			held := readtest.Read(format, "held", a.held, nil)
			if len(readtest.Unread(held)) == 0 {
				if d := readtest.Differences(g, held); len(d) > 0 {
					why = "it holds something else: " + strings.Join(d[:min(3, len(d))], "; ")
				}
			}
		}
		if a.taken {
			taken++
		}
		if why == "" {
			continue
		}
		if k := slices.IndexFunc(format.Departures, func(d read.Departure) bool { return strings.Contains(a.says+why, d.Says) }); k >= 0 {
			reasons[format.Departures[k].Says]++
			continue
		}
		disagree++
		if disagree <= 40 {
			t.Errorf("%d: %s\n%s\n--- says: %s", i, why, changed(samples, texts[i]), a.says[:min(len(a.says), 300)])
		}
	}
	named := 0
	for _, n := range reasons {
		named += n
	}
	fmt.Printf(
		"lab: %s: %d mutated texts, %d taken by the program, %d disagreements of which %d are named\n",
		format.Name,
		len(texts),
		taken,
		disagree+named,
		named,
	)
	for _, r := range slices.Sorted(maps.Keys(reasons)) {
		t.Logf("%4d  %s", reasons[r], r)
	}
	assert.Zero(t, disagree)
	assert.Positive(t, taken)
	assert.Less(t, taken, len(texts))
}

// changed returns the lines of a text that no sample has, with those around them.
func changed(samples []string, text string) string {
	known := map[string]bool{}
	for _, s := range samples {
		for l := range strings.Lines(s) {
			known[strings.TrimSpace(l)] = true
		}
	}
	var out []string
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if !known[strings.TrimSpace(l)] {
			out = append(out, fmt.Sprintf("%d: %s", i+1, l))
		}
	}
	return strings.Join(out, "\n")
}

func sampleTexts(t *testing.T, folder, suffix string) []string {
	var out []string
	all := lab.Samples(t, folder)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if strings.HasSuffix(name, suffix) {
			out = append(out, all[name])
		}
	}
	return out
}

func TestMutatedNftables(t *testing.T) {
	lab.Need(t, "nft", "nftables")
	differ(
		t,
		nftables.Text,
		sampleTexts(t, "nftables", ".nft"),
		"nft -f $f && nft list ruleset > $f.held; r=$?; nft flush ruleset; exit $r",
	)
}

func TestMutatedIptables(t *testing.T) {
	lab.Need(t, "iptables-restore", "iptables")
	differ(
		t,
		iptables.Save,
		sampleTexts(t, "iptables", ".rules"),
		"iptables-restore < $f && iptables-save > $f.held; r=$?; nft flush ruleset; exit $r",
	)
}
