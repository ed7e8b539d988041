//go:build lab

package limits

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/read"
	"toril/read/frr"
	"toril/read/iked"
	"toril/read/phrasebook"
	"toril/read/readtest"
)

// repeated is a text over and over, up to a size, each time with other names.
func repeated(text string, size int, names ...string) string {
	var b strings.Builder
	for n := 0; b.Len() < size; n++ {
		one := text
		for _, name := range names {
			one = strings.ReplaceAll(one, name, fmt.Sprintf("%d%s", n, name))
		}
		b.WriteString(one)
	}
	return b.String()
}

// TestAPhrasebookIsNotSlow reads a text by a phrasebook and by the reader of its language, by turns in one run: the phrasebook is at least
// a third as fast. With TORIL_LAB_CASES set the text has 50 MB.
func TestAPhrasebookIsNotSlow(t *testing.T) {
	tally := lab.NewTally(t, "50 MB read by a phrasebook, at no less than a third of the reader's speed")
	const least = 1.0 / 3
	size, runs := 4<<20, 3 // in CI
	if os.Getenv("TORIL_LAB_CASES") != "" {
		size, runs = 50<<20, 1
	}
	for _, of := range []struct {
		name, sample string
		reader       *read.Format
		names        []string
	}{
		{"frrouting", "frr/frr.conf", frr.Format, []string{"eth0", "gre1"}},
		{"openiked", "iked/site.conf", iked.Format, []string{"quay\"", "routing\"", "plain\""}},
	} {
		book, err := os.ReadFile("../../read/phrasebook/testdata/" + of.name + ".yaml")
		require.NoError(t, err)
		b, err := phrasebook.Load(of.name, book)
		require.NoError(t, err)
		sample, err := os.ReadFile("../formats/samples/" + of.sample)
		require.NoError(t, err)
		text := repeated(string(sample), size, of.names...)
		var best [2]time.Duration
		for range runs {
			for i, f := range []*read.Format{b.Format(), of.reader} {
				begin := time.Now()
				g := readtest.Read(f, "x", text, nil)
				took := time.Since(begin)
				require.Empty(t, readtest.Unread(g), of.name)
				if best[i] == 0 || took < best[i] {
					best[i] = took
				}
			}
		}
		speed := func(i int) float64 { return float64(len(text)) / (1 << 20) / best[i].Seconds() }
		t.Logf("%s: phrasebook %.1f MiB/s, reader %.1f MiB/s: ratio %.2f", of.name, speed(0), speed(1), speed(0)/speed(1))
		tally.Count(assert.GreaterOrEqual(t, speed(0)/speed(1), least, of.name))
	}
}
