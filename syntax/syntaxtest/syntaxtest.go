// Package syntaxtest checks the promise of every syntax.
package syntaxtest

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/syntax"
)

// PrintedBack checks that statements printed from their bytes, with what stands between them, are the text; that none lies in another; and
// that each begins on its line. It returns what stands between them.
func PrintedBack(t testing.TB, text string, places []syntax.Place) (between []string) {
	t.Helper()
	places = slices.Clone(places)
	slices.SortFunc(places, func(a, b syntax.Place) int { return cmp.Compare(a.Start, b.Start) })
	var out strings.Builder
	at := 0
	for _, p := range places {
		if !assert.LessOrEqual(t, at, p.Start, "statements lie in each other") || !assert.LessOrEqual(t, p.Start, p.End) ||
			!assert.LessOrEqual(t, p.End, len(text)) {
			return nil
		}
		assert.Equal(t, 1+strings.Count(text[:p.Start], "\n"), p.Line, "its line")
		between = append(between, text[at:p.Start])
		out.WriteString(text[at:p.Start] + text[p.Start:p.End])
		at = p.End
	}
	between = append(between, text[at:])
	assert.Equal(t, text, out.String()+text[at:])
	return between
}

// Samples calls a function with the text of every sample of a format that the laboratory has, by a pattern of their names.
func Samples(t *testing.T, pattern string, each func(text string)) {
	t.Helper()
	files, err := filepath.Glob("../../lab/formats/samples/" + pattern)
	require.NoError(t, err)
	require.NotEmpty(t, files, pattern)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		each(string(text))
	}
}
