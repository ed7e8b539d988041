package phrasebook_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/model"
	"toril/read"
	"toril/read/frr"
	"toril/read/iked"
	"toril/read/phrasebook"
	"toril/read/readtest"
)

// TestLanguagesThatReadersReadToo: by phrases or by its reader, a file says the same, and nothing is left unread.
func TestLanguagesThatReadersReadToo(t *testing.T) {
	for name, of := range map[string]struct {
		reader  *read.Format
		samples string
	}{
		"frrouting": {frr.Format, "frr"},
		"openiked":  {iked.Format, "iked"},
	} {
		text, err := os.ReadFile("testdata/" + name + ".yaml")
		require.NoError(t, err)
		b, err := phrasebook.Load(name, text)
		require.NoError(t, err)
		files, err := filepath.Glob("../../lab/formats/samples/" + of.samples + "/*")
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			sample, err := os.ReadFile(file)
			require.NoError(t, err)
			by := readtest.Read(b.Format(), "x", string(sample), nil)
			assert.Empty(t, readtest.Unread(by), name)
			assert.Empty(t, readtest.Problems(by), name)
			// a phrasebook cannot say that an identity is the name of the host
			want := strings.ReplaceAll(told(readtest.Read(of.reader, "x", string(sample), nil)), "the name of its host", "not said")
			assert.Equal(t, want, told(by), name)
		}
	}
}

// told is what a gateway is, without whose the values are.
func told(g *model.Gateway) string {
	var b strings.Builder
	b.WriteString(readtest.Network(g))
	for _, p := range g.Protocols {
		fmt.Fprint(&b, p.Name, p.Instance, p.Passive, p.Neighbors)
		for _, list := range [][]model.Carried{p.Networks, p.Interfaces, p.Redistribute} {
			for _, c := range list {
				fmt.Fprint(&b, " ", c.Network, c.Name, c.At.Line)
			}
		}
		b.WriteString("\n")
	}
	b.WriteString(strings.ReplaceAll(readtest.Connections(g), " OpenIKED\n", "\n"))
	return strings.ReplaceAll(b.String(), " \n", "\n")
}

// TestEveryExample runs the examples of every phrasebook that is here.
func TestEveryExample(t *testing.T) {
	seen := 0
	for _, folder := range []fs.FS{demo.Estate(), os.DirFS("testdata")} {
		err := fs.WalkDir(folder, ".", func(name string, _ fs.DirEntry, err error) error {
			require.NoError(t, err)
			if filepath.Ext(name) != ".yaml" || filepath.Base(name) == "toril.yaml" {
				return nil
			}
			text, err := fs.ReadFile(folder, name)
			require.NoError(t, err)
			b, err := phrasebook.Load(name, text)
			require.NoError(t, err)
			assert.NotEmpty(t, b.Examples, name)
			assert.Empty(t, b.Test(context.Background()), name)
			assert.Empty(t, b.Warnings)
			seen++
			return nil
		})
		require.NoError(t, err)
	}
	assert.Equal(t, 5, seen)
}
