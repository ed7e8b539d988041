package text_test

import (
	"bytes"
	"context"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/read/phrasebook"
	"toril/report"
	"toril/report/text"
	"toril/source"
)

// TestPhrasebooksForPeople: what is shown of every phrasebook of the demonstration estate fits its width, and shows no control characters.
func TestPhrasebooksForPeople(t *testing.T) {
	for book, sample := range map[string]string{
		"wharfgate": "fogbank/fogbank.wharfgate", "tidewheel": "breakwater/breakwater.tidewheel", "orrery": "almanac/almanac.orrery.xml",
	} {
		data, err := fs.ReadFile(demo.Estate(), "phrasebooks/"+book+".yaml")
		require.NoError(t, err)
		b, err := phrasebook.Load(book, data)
		require.NoError(t, err)
		saved, err := fs.ReadFile(demo.Estate(), sample)
		require.NoError(t, err)
		saved = append(saved, "\nmystery \x1b[31m 5\nmystery \x1b[31m 6\n"...)
		tried := b.Try(context.Background(), source.NewFile(sample, saved))
		for _, width := range []int{80, 100, 140} {
			var out bytes.Buffer
			look := report.Look{Width: width}
			require.NoError(t, text.BookTry(&out, b, tried, look))
			require.NoError(t, text.BookShow(&out, b, look))
			require.NoError(t, text.BookTest(&out, book, b, b.Test(context.Background()), look))
			for line := range strings.Lines(out.String()) {
				assert.NotContains(t, line, "\x1b")
				if !strings.Contains(line, "<") { // a phrase is not cut
					assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, " \n"))), width+10, line)
				}
			}
			assert.Contains(t, out.String(), "order of work")
			assert.Contains(t, out.String(), "1 example of "+book+" read as they say")
		}
	}
	var out bytes.Buffer
	b, err := phrasebook.Load("x", []byte("language: x\ntitle: x\nsyntax: {kind: lines}\nphrases: [{say: a, moot: b}]\n"))
	require.NoError(t, err)
	require.NoError(t, text.BookTest(&out, "x", b, nil, report.Look{}))
	assert.Contains(t, out.String(), "has no examples, so nothing is shown")
	out.Reset()
	require.NoError(
		t,
		text.BookTest(&out, "x", b, []phrasebook.Difference{{Subject: "line 1", Found: "is not understood: x"}}, report.Look{}),
	)
	assert.Contains(t, out.String(), "1 difference in")
}
