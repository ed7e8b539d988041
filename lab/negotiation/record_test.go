//go:build lab

package negotiation

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// record keeps pairs for which daemons did what was predicted: the tests of agree hold the prediction to them where no daemon is.
type record struct {
	archive txtar.Archive
	most    int // how many are kept of a long row
	pairs   int
	shared  map[string]string // the names of texts that many pairs have
}

// newRecord writes what was kept to the folder that TORIL_LAB_RECORD names, at the end of the test.
func newRecord(t *testing.T, name string) *record {
	r := &record{most: 80}
	dir := os.Getenv("TORIL_LAB_RECORD")
	if dir == "" {
		return r
	}
	t.Cleanup(func() {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".txtar"), txtar.Format(&r.archive), 0o644))
	})
	return r
}

func (r *record) keep(name, a, b string) {
	r.archive.Files = append(
		r.archive.Files,
		txtar.File{Name: name + "/a", Data: []byte(a)},
		txtar.File{Name: name + "/b", Data: []byte(b)},
	)
}

// keepFiles keeps a pair of what several files say.
func (r *record) keepFiles(name string, a, b map[string]string) {
	if r.pairs++; r.pairs > r.most {
		return
	}
	for folder, files := range map[string]map[string]string{"a": a, "b": b} {
		for file, text := range files {
			if strings.HasPrefix(file, "private/") {
				continue
			}
			if strings.HasPrefix(text, "-----BEGIN") {
				text = r.once(text) + "\n"
			}
			r.archive.Files = append(r.archive.Files, txtar.File{Name: name + "/" + folder + "/" + file, Data: []byte(text)})
		}
	}
	slices.SortStableFunc(r.archive.Files, func(x, y txtar.File) int { return strings.Compare(x.Name, y.Name) })
}

// once keeps a text that many pairs have, and returns its name.
func (r *record) once(text string) string {
	if r.shared == nil {
		r.shared = map[string]string{}
	}
	name, ok := r.shared[text]
	if !ok {
		name = fmt.Sprintf("certificates/%d.pem", len(r.shared))
		r.shared[text] = name
		r.archive.Files = append(r.archive.Files, txtar.File{Name: name, Data: []byte(text)})
	}
	return name
}
