package suite_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"

	"toril/audit"
	"toril/pair"
)

// aboutWhatIsMissing are the checks whose findings are that something is missing that a file names.
var aboutWhatIsMissing = []string{"read/include-missing", "read/refused", "tidy/undefined"}

// TestWithheld leaves out each file of sound estates, and each kind of file: of one gateway, and of all. Nothing of medium or above is then
// said for certain, and no state of a tunnel is certain and worse than with all files. A share is tried, or all where TORIL_BLINDFOLD is
// "all".
func TestWithheld(t *testing.T) {
	share, random := 3, 40
	if os.Getenv("TORIL_BLINDFOLD") == "all" {
		share, random = 1, 500
	}
	rng := rand.New(rand.NewPCG(20261201, 2))
	estates := blindEstates(t, random)
	sound, tried := 0, 0
	for _, name := range slices.Sorted(maps.Keys(estates)) {
		files := estates[name]
		whole := answersOf(t, files)
		if len(whole.estate.Problems) > 0 || slices.ContainsFunc(slices.Collect(maps.Values(whole.worst)), func(s audit.Severity) bool {
			return s >= audit.Medium
		}) {
			continue
		}
		sound++
		for _, without := range withheld(whole.estate) {
			if rng.IntN(share) > 0 {
				continue
			}
			tried++
			less := maps.Clone(files)
			maps.DeleteFunc(less, func(file string, _ *fstest.MapFile) bool { return slices.Contains(without, file) })
			got := answersOf(t, less)
			for about, severity := range got.findings {
				check, _, _ := strings.Cut(about, " ")
				if severity >= audit.Medium && !slices.Contains(aboutWhatIsMissing, check) {
					t.Errorf("%s without %s: %s %s", name, strings.Join(without, ", "), severity, about)
				}
			}
			for tunnel, state := range got.states {
				if was, known := whole.states[tunnel]; known && state != "" && got.bad[tunnel] > whole.bad[tunnel] {
					t.Errorf("%s without %s: the tunnel %s %q, of the whole %q", name, strings.Join(without, ", "), tunnel, state, was)
				}
			}
		}
	}
	fmt.Printf("withheld: %d sound estates, %d times files left out\n", sound, tried)
	assert.Greater(t, sound, 40)
}

// withheld lists what is left out of an estate: each file, those of each format of a gateway, and those of each format. Files of a gateway
// of which nothing would be left are not.
func withheld(e *pair.Whole) (out [][]string) {
	add := func(files []string) {
		if len(files) > 0 && !slices.ContainsFunc(out, func(o []string) bool { return slices.Equal(o, files) }) {
			out = append(out, files)
		}
	}
	kinds := map[string][]string{}
	for _, g := range e.Gateways {
		own := map[string][]string{}
		for _, f := range g.Files {
			add([]string{f.Path})
			own[f.Format] = append(own[f.Format], f.Path)
			kinds[f.Format] = append(kinds[f.Format], f.Path)
		}
		for _, kind := range slices.Sorted(maps.Keys(own)) {
			add(own[kind])
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		add(kinds[kind])
	}
	return out
}
