package pair_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/estate/estatetest"
	"toril/internal/cputime"
	"toril/model"
	"toril/pair"
	"toril/read/formats"
)

var conn, file = estatetest.Conn, estatetest.File

func load(t *testing.T, fsys fstest.MapFS) *pair.Whole {
	e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	return e
}

func names(e *pair.Whole) []string {
	var out []string
	for _, t := range e.Tunnels {
		out = append(out, t.Name)
	}
	return out
}

func TestPairing(t *testing.T) {
	for name, c := range map[string]struct {
		files fstest.MapFS
		want  []string
	}{
		"by addresses": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x", "192.0.2.1", "192.0.2.2", "", "", "", "")),
			"b/swanctl.conf": file(conn("y", "192.0.2.2", "192.0.2.1", "", "", "", "")),
		}, []string{"a/x <> b/y"}},
		"two between the same addresses, by selectors": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x1", "192.0.2.1", "192.0.2.2", "", "", "10.1.0.0/24", "10.2.0.0/24"),
				conn("x2", "192.0.2.1", "192.0.2.2", "", "", "10.1.9.0/24", "10.2.9.0/24")),
			"b/swanctl.conf": file(conn("y1", "192.0.2.2", "192.0.2.1", "", "", "10.2.9.0/24", "10.1.9.0/24"),
				conn("y2", "192.0.2.2", "192.0.2.1", "", "", "10.2.0.0/24", "10.1.0.0/24")),
		}, []string{"a/x1 <> b/y2", "a/x2 <> b/y1"}},
		"two between the same addresses, by identities": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x1", "192.0.2.1", "192.0.2.2", "a1", "b1", "", ""),
				conn("x2", "192.0.2.1", "192.0.2.2", "a2", "b2", "", "")),
			"b/swanctl.conf": file(conn("y1", "192.0.2.2", "192.0.2.1", "b2", "a2", "", ""),
				conn("y2", "192.0.2.2", "192.0.2.1", "b1", "a1", "", "")),
		}, []string{"a/x1 <> b/y2", "a/x2 <> b/y1"}},
		"far end not given": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x", "192.0.2.1", "192.0.2.2", "", "", "", ""),
				conn("z", "192.0.2.1", "192.0.2.9", "", "", "", "")),
			"b/swanctl.conf": file(conn("y", "192.0.2.2", "192.0.2.1", "", "", "", "")),
		}, []string{"a/x <> b/y", "a/z <> (not given)"}},
		"far end behind NAT, by identity": {fstest.MapFS{
			"hub/swanctl.conf":   file(conn("spoke", "192.0.2.1", "%any", "hub", "spoke", "10.0.0.0/24", "10.5.0.0/24")),
			"spoke/swanctl.conf": file(conn("hub", "192.168.1.2", "192.0.2.1", "spoke", "hub", "10.5.0.0/24", "10.0.0.0/24")),
		}, []string{"hub/spoke <> spoke/hub"}},
		"far end behind NAT, by its public address and selectors": {fstest.MapFS{
			"hub/swanctl.conf":   file(conn("spoke", "192.0.2.1", "203.0.113.77", "", "", "10.0.0.0/24", "10.5.0.0/24")),
			"spoke/swanctl.conf": file(conn("hub", "192.168.1.2", "192.0.2.1", "", "", "10.5.0.0/24", "10.0.0.0/24")),
		}, []string{"hub/spoke <> spoke/hub"}},
		"one connection for all spokes": {fstest.MapFS{
			"hub/swanctl.conf": file(conn("all", "192.0.2.1", "%any", "hub", "", "10.0.0.0/24", "10.5.0.0/16")),
			"s1/swanctl.conf":  file(conn("hub", "203.0.113.1", "192.0.2.1", "s1", "hub", "10.5.1.0/24", "10.0.0.0/24")),
			"s2/swanctl.conf":  file(conn("hub", "203.0.113.2", "192.0.2.1", "s2", "hub", "10.5.2.0/24", "10.0.0.0/24")),
		}, []string{"hub/all <> s1/hub", "hub/all <> s2/hub"}},
		"wrong address at one end, right identities": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x", "192.0.2.1", "192.0.2.22", "a", "b", "", "")),
			"b/swanctl.conf": file(conn("y", "192.0.2.2", "192.0.2.1", "b", "a", "", "")),
		}, []string{"a/x <> b/y"}},
		"strangers": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x", "192.0.2.1", "192.0.2.7", "a", "c", "10.1.0.0/24", "10.9.0.0/24")),
			"b/swanctl.conf": file(conn("y", "192.0.2.2", "192.0.2.8", "b", "d", "10.2.0.0/24", "10.8.0.0/24")),
		}, []string{"a/x <> (not given)", "b/y <> (not given)"}},
		"several addresses": {fstest.MapFS{
			"a/swanctl.conf": file(conn("x", "192.0.2.1, 198.51.100.1", "192.0.2.2", "", "", "", "")),
			"b/swanctl.conf": file(conn("y", "192.0.2.2", "198.51.100.1", "", "", "", "")),
		}, []string{"a/x <> b/y"}},
	} {
		e := load(t, c.files)
		assert.Equal(t, c.want, names(e), name)
	}
}

// TestMatchesOfConnections: each gateway and each connection has the matches that name it, by name, and no others.
func TestMatchesOfConnections(t *testing.T) {
	e := load(t, fstest.MapFS{
		"a/swanctl.conf": file(conn("x1", "192.0.2.1", "192.0.2.2", "", "", "10.1.0.0/24", "10.2.0.0/24"),
			conn("x2", "192.0.2.1", "192.0.2.3", "", "", "", ""),
			conn("x3", "192.0.2.1", "192.0.2.9", "", "", "", "")),
		"b/swanctl.conf": file(conn("any", "192.0.2.2", "", "", "", "10.2.0.0/24", "10.1.0.0/24")),
		"c/swanctl.conf": file(conn("z", "192.0.2.3", "192.0.2.1", "", "", "", ""), conn("any", "192.0.2.3", "192.0.2.2", "", "", "", "")),
		"d/swanctl.conf": file(),
	})
	all := 0
	for i, g := range e.Gateways {
		var about []string
		for _, m := range e.MatchesOf(g) {
			about = append(about, m.Name)
		}
		var want []string
		for _, m := range e.Matches {
			if slices.Contains(m.Gateways(), e.Estate.Estate.Gateways[i]) {
				want = append(want, m.Name)
			}
		}
		assert.Equal(t, want, about, g.Name)
		for _, c := range g.Connections {
			var sides []string
			for _, m := range e.MatchesOfAny(g, c) {
				sides = append(sides, m.Name)
			}
			for _, m := range e.Matches {
				is := slices.ContainsFunc(m.Sides, func(s pair.Side) bool { return s.Of(g, c) })
				assert.Equal(t, is, slices.Contains(sides, m.Name), "%s and %s/%s", m.Name, g.Name, c.Name)
			}
			assert.IsIncreasing(t, append(sides, "~"))
			assert.Equal(t, sides[0], e.MatchOf(g, c).Name)
			all += len(sides)
		}
		assert.Equal(t, about, func() (out []string) { // of all connections together, each once
			for _, m := range e.MatchesOfAny(g, append(g.Connections, g.Connections...)...) {
				out = append(out, m.Name)
			}
			return out
		}(), g.Name)
		other := &model.Connection{Number: 0} // as one that is not loaded has the number of another
		assert.Nil(t, e.MatchOf(g, other))
		assert.Empty(t, e.MatchesOfAny(g, other))
	}
	assert.Greater(t, all, len(e.Matches))
}

func TestAmbiguityIsNamed(t *testing.T) {
	e := load(t, fstest.MapFS{
		"a/swanctl.conf": file(conn("x", "192.0.2.1", "192.0.2.2", "", "", "", "")),
		"b/swanctl.conf": file(
			conn("y1", "192.0.2.2", "192.0.2.1", "", "", "", ""),
			conn("y2", "192.0.2.2", "192.0.2.1", "", "", "", ""),
		),
	})
	require.Equal(t, []string{"a/x <> b/y1", "b/y2 <> a"}, names(e))
	assert.Equal(t, []string{"b/y2 matches a/x equally well"}, e.Tunnels[0].Doubts)
}

// TestConnectionsThatDifferInVersionOnly: of two between the same peers, each is paired with the one of its version of IKE, whatever their
// order and their names.
func TestConnectionsThatDifferInVersionOnly(t *testing.T) {
	of := func(name, own, far, version string) string {
		return strings.Replace(conn(name, own, far, "", "", "", ""), name+" {", name+" {\nversion = "+version, 1)
	}
	e := load(t, fstest.MapFS{
		"a/swanctl.conf": file(of("one", "192.0.2.1", "192.0.2.2", "1"), of("two", "192.0.2.1", "192.0.2.2", "2")),
		"b/swanctl.conf": file(of("alpha", "192.0.2.2", "192.0.2.1", "2"), of("beta", "192.0.2.2", "192.0.2.1", "1")),
	})
	assert.Equal(t, []string{"a/one <> b/beta", "a/two <> b/alpha"}, names(e))
	for _, tu := range e.Tunnels {
		assert.Empty(t, tu.Doubts)
	}
	e = load(t, fstest.MapFS{
		"a/swanctl.conf": file(of("one", "192.0.2.1", "192.0.2.2", "1")),
		"b/swanctl.conf": file(of("alpha", "192.0.2.2", "192.0.2.1", "2")),
	})
	assert.Equal(t, []string{"a/one <> b/alpha"}, names(e), "where there is no other, versions do not part them")
}

func TestPairingTakesLinearTime(t *testing.T) {
	took := func(n int) time.Duration { // on a real disk: the file system of the tests is quadratic itself
		dir := t.TempDir()
		write := func(name, text string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name, "swanctl.conf"), []byte(text), 0o644))
		}
		var hub []string
		for i := range n {
			spoke := fmt.Sprintf("203.%d.%d.1", 100+i/200, i%200)
			net := fmt.Sprintf("10.%d.%d.0/24", i/200, i%200)
			hub = append(hub, conn(fmt.Sprintf("s%d", i), "192.0.2.1", spoke, "hub", fmt.Sprintf("s%d.example", i), "10.255.0.0/24", net))
			write(fmt.Sprintf("s%d", i), conn("hub", spoke, "192.0.2.1", fmt.Sprintf("s%d.example", i), "hub", net, "10.255.0.0/24"))
		}
		write("hub", strings.Join(hub, ""))
		start := cputime.Spent()
		e, err := pair.Load(context.Background(), []string{dir}, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		assert.Len(t, e.Matches, n)
		return cputime.Spent() - start
	}
	took(100) // warm up
	small, large := took(400), took(3200)
	assert.Less(t, large.Seconds(), 4*8*small.Seconds(), "eight times the spokes took %v, up from %v", large, small)
}

// TestManyAtOneAddress: an address that more gateways have than anybody means tells nothing, and no end names all who might be meant.
func TestManyAtOneAddress(t *testing.T) {
	files := fstest.MapFS{}
	for i := range 300 {
		files[fmt.Sprintf("g%03d/swanctl.conf", i)] = file(
			conn("a", "192.0.2.1", "192.0.2.2", "", "", "", ""),
			conn("b", "192.0.2.2", "192.0.2.1", "", "", "", ""),
		)
	}
	for _, tu := range load(t, files).Tunnels {
		assert.LessOrEqual(t, len(tu.Doubts), 17)
	}
}
