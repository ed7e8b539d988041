package follow_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/walk"
)

// TestThroughAWrappingInterface follows packets that GRE wraps before ESP encrypts them, to the far end and back.
func TestThroughAWrappingInterface(t *testing.T) {
	for _, c := range []struct {
		name, file, from, to string // what is changed; nothing
		lost, stray          string
	}{
		{name: "as it is"},
		{name: "the far end unwraps nothing", file: "wrack/net.txt", from: "gre remote 198.51.100.61", to: "gre remote 198.51.100.16",
			lost: "no interface of wrack takes them out of what t0 " +
				"wrapped them in"},
		{name: "the far end has a child for another protocol", file: "wrack/swanctl.conf", from: "dynamic[gre]", to: "dynamic[udp]",
			lost: "no child of wrack/kelp is for them"},
		{name: "the answer is routed elsewhere", file: "wrack/net.txt", from: "10.70.2.0/24 dev t0", to: "10.70.9.0/24 dev t0",
			stray: "at wrack the reply is in the clear, not encrypted"},
	} {
		t.Run(c.name, func(t *testing.T) {
			ar, err := txtar.ParseFile("testdata/wrapped.txtar")
			require.NoError(t, err)
			files := fstest.MapFS{}
			for _, f := range ar.Files {
				text := string(f.Data)
				if f.Name == c.file {
					require.Contains(t, text, c.from)
					text = strings.ReplaceAll(text, c.from, c.to)
				}
				files[f.Name] = &fstest.MapFile{Data: []byte(text)}
			}
			trips := ask(t, files, "kelp", "10.70.2.10", "10.71.2.10:443", "tcp", nil)
			require.Len(t, trips, 1)
			require.Len(t, trips[0].Parts, 1)
			part := trips[0].Parts[0]
			assert.Equal(t, walk.Encrypted, part.Fate)
			assert.Equal(t, c.lost, part.Crossing.Lost)
			if c.lost != "" {
				return
			}
			require.NotNil(t, part.Crossing.Trip)
			assert.Equal(t, "t0", part.Crossing.Trip.In)
			require.Len(t, part.Crossing.Trip.Parts, 1)
			far := part.Crossing.Trip.Parts[0]
			assert.Equal(t, walk.Clear, far.Fate)
			assert.Equal(t, "lan0", far.Out)
			if c.stray == "" {
				assert.Empty(t, far.Stray)
				assert.Len(t, far.Answer, 2)
				return
			}
			assert.Contains(t, far.Stray, c.stray)
		})
	}
}
