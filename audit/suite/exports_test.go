package suite_test

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/read/yang"
)

// TestExportsKnowWhatTheyLack: of estates that are written as the IETF's models and read back, nothing is certain that is not said of the
// estates themselves.
func TestExportsKnowWhatTheyLack(t *testing.T) {
	tried := 0
	estates := blindEstates(t, 20)
	for _, name := range slices.Sorted(maps.Keys(estates)) {
		whole := answersOf(t, estates[name])
		exports := fstest.MapFS{}
		for n, g := range whole.estate.Gateways {
			var out bytes.Buffer
			_, err := yang.Write(&out, g, n%2 > 0)
			require.NoError(t, err)
			ending := ".yang.json"
			if n%2 > 0 {
				ending = ".yang.xml"
			}
			exports[g.Name+"/"+strings.ReplaceAll(g.Name, "/", "-")+ending] = &fstest.MapFile{Data: out.Bytes()}
		}
		if len(exports) == 0 {
			continue
		}
		tried++
		for _, d := range answersOf(t, exports).differs(whole) {
			if !strings.Contains(d, "a change for certain: ") { // their files are of another kind
				t.Errorf("%s: %s", name, d)
			}
		}
	}
	fmt.Printf("exports: %d estates\n", tried)
	assert.Greater(t, tried, 60)
}
