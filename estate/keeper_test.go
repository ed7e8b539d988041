package estate_test

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/model"
	"toril/read/formats"
)

// ring are gateways in a row, all of them alike.
func ring(n int) fstest.MapFS {
	files := fstest.MapFS{}
	for i := range n {
		files[fmt.Sprintf("g%02d/swanctl.conf", i)] = file(conn("x", fmt.Sprintf("192.0.2.%d", i+1), "198.51.100.1", "", "", "", ""))
	}
	return files
}

// TestGatewaysComeAndGo: what there is no room for is let go and read again, and what is in use stays.
func TestGatewaysComeAndGo(t *testing.T) {
	ctx := context.Background()
	e, err := estate.LoadFS(ctx, ring(6), estate.Options{Formats: formats.All(), Room: 1})
	require.NoError(t, err)
	var mu sync.Mutex
	var gone []string
	e.WhenGone(func(g *model.Gateway) {
		mu.Lock()
		defer mu.Unlock()
		gone = append(gone, g.Name)
	})
	first, err := e.Open(ctx, e.Gateways[0])
	require.NoError(t, err)
	for _, f := range e.Gateways[1:] {
		g, err := e.Open(ctx, f)
		require.NoError(t, err)
		assert.Equal(t, f.Number, g.Number)
		assert.Equal(t, f.Connections[0].Name, g.Connections[0].Name)
		e.Close(f)
	}
	again, err := e.Open(ctx, e.Gateways[0])
	require.NoError(t, err)
	assert.Same(t, first, again, "it was in use all the time")
	assert.NotContains(t, gone, "g00")
	assert.Contains(t, gone, "g03")
	e.Close(e.Gateways[0])
	e.Close(e.Gateways[0])
	for _, f := range e.Gateways[1:3] {
		_, err := e.Open(ctx, f)
		require.NoError(t, err)
		e.Close(f)
	}
	assert.Contains(t, gone, "g00")
	later, err := e.Open(ctx, e.Gateways[0])
	require.NoError(t, err)
	assert.NotSame(t, first, later, "it was read again")
	assert.Equal(t, first.Connections[0].LocalAddrs, later.Connections[0].LocalAddrs)
}

// TestFilesThatChangeWhileTheyAreRead: a gateway that is no more what it was is an error, and not another answer.
func TestFilesThatChangeWhileTheyAreRead(t *testing.T) {
	ctx, files := context.Background(), ring(3)
	e, err := estate.LoadFS(ctx, files, estate.Options{Formats: formats.All(), Room: 1})
	require.NoError(t, err)
	before := files["g02/swanctl.conf"].Data
	files["g02/swanctl.conf"].Data = append(files["g02/swanctl.conf"].Data, []byte("# changed\n")...)
	var errs []error
	for _, f := range e.Gateways {
		if _, err := e.Open(ctx, f); err != nil {
			errs = append(errs, err)
		}
	}
	require.Len(t, errs, 1)
	assert.ErrorContains(t, errs[0], "the files of g02 changed while they were read")
	files["g02/swanctl.conf"].Data = before
	g, err := e.Open(ctx, e.Gateways[2])
	require.NoError(t, err, "whoever asks next tries again")
	assert.Equal(t, "g02", g.Name)
}

// TestPacketFiltersAreReadOnce where every gateway is opened again: what they tell is known then.
func TestPacketFiltersAreReadOnce(t *testing.T) {
	ctx, files := context.Background(), ring(4)
	for i := range 4 {
		files[fmt.Sprintf("g%02d/.more", i)] = file("table inet y {\n}\n")
		files[fmt.Sprintf("g%02d/nftables.conf", i)] = file("include \".more\"\ntable inet x {\n\tchain y {\n\t\tfrobnicate\n\t}\n}\n")
	}
	opts := estate.Options{Formats: formats.All(), Room: 1}
	whole, err := estate.LoadFS(ctx, files, opts)
	require.NoError(t, err)
	opts.Again = true
	before := runtime.GOMAXPROCS(1)
	defer runtime.GOMAXPROCS(before)
	e, err := estate.LoadFS(ctx, files, opts)
	require.NoError(t, err)
	last := e.Gateways[3]
	assert.Equal(t, whole.Gateways[3].Connections, last.Connections)
	require.Len(t, last.Files, 2)
	unread := func(f *estate.Facts) int { return len(f.Files[0].Unread) + len(f.Files[1].Unread) }
	assert.Zero(t, unread(last), "the filter was not read")
	assert.Equal(t, 1, unread(whole.Gateways[3]))
	for _, f := range e.Gateways {
		_, err := e.Open(ctx, f)
		require.NoError(t, err)
		e.Close(f)
	}
	e.Complete()
	assert.Equal(t, whole.Gateways[3].Files, last.Files)
	assert.Equal(t, whole.Problems, e.Problems)
	assert.Equal(t, whole.Read, e.Read)
	for _, f := range e.Gateways {
		_, err := e.Open(ctx, f)
		require.NoError(t, err, "once more")
		e.Close(f)
	}
	e.Complete()
	assert.Equal(t, whole.Problems, e.Problems)
	assert.Equal(t, whole.Read, e.Read)

	e, err = estate.LoadFS(ctx, files, opts)
	require.NoError(t, err)
	files["g03/nftables.conf"].Data = append(files["g03/nftables.conf"].Data, '\n')
	_, err = e.Open(ctx, e.Gateways[3])
	assert.ErrorContains(t, err, "changed while they were read")
}

func TestWhatIsKeptOfAGateway(t *testing.T) {
	e, err := estate.LoadFS(context.Background(), fstest.MapFS{
		"a/swanctl.conf": file(conn("x", "192.0.2.1", "192.0.2.2", "a.example", "b.example", "10.1.0.0/16", "10.2.0.0/16"),
			"secrets {\n ike {\n  secret = abc\n }\n}\nfrobnicate = 1\n"),
		"b/swanctl.conf": file(conn("y", "192.0.2.2", "192.0.2.1", "", "", "", ""), "secrets {\n ike {\n  secret = def\n }\n}\n"),
	}, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Len(t, e.Gateways, 2)
	a, b := e.Gateways[0], e.Gateways[1]
	assert.Equal(t, []int{0, 1, 1, 1}, []int{a.Before, a.Keys, b.Before, b.Keys})
	c := a.Connections[0]
	assert.Equal(t, "a.example", c.Shows.Value)
	assert.Equal(t, "b.example", c.Expects.Value)
	assert.Equal(t, "10.2.0.0/16", c.Children[0].Remote.String())
	assert.False(t, c.Shunts())
	require.Len(t, a.Files, 1)
	require.Len(t, a.Files[0].Unread, 1)
	assert.Contains(t, a.Files[0].Unread[0].Text, "frobnicate")
	assert.Zero(t, b.Connections[0].Shows, "its own files do not tell which address it sends from")
}

// TestWhatFitsIsKept: whether an estate fits is told from its first gateways only where that is plain.
func TestWhatFitsIsKept(t *testing.T) {
	files, size := ring(200), int64(0)
	for name, f := range files {
		if name < "g16" { // the first 76 of them have half as much again
			f.Data = append(f.Data, strings.Repeat("# more\n", len(f.Data)/14)...)
		}
		size += int64(len(f.Data))
	}
	for _, c := range []struct {
		room  int64
		large bool
	}{{size, false}, {size * 3 / 4, true}, {size / 4, true}} {
		e, err := estate.LoadFS(context.Background(), files, estate.Options{Formats: formats.All(), Room: c.room})
		require.NoError(t, err)
		assert.Equal(t, c.large, e.Large(), "%d bytes have room of %d", c.room, size)
		assert.Len(t, e.Gateways, 200)
	}
}
