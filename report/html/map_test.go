package html

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/pair"
	"toril/report"
)

// estateOf makes the result of an audit of gateways with tunnels between them; states go round.
func estateOf(tunnels [][2]string, states ...audit.State) *report.Audited {
	facts := map[string]*estate.Facts{}
	side := func(name string) pair.Side {
		if facts[name] == nil {
			facts[name] = &estate.Facts{Name: name}
		}
		return pair.Side{Gateway: facts[name], Connection: &estate.Connection{Name: "c"}}
	}
	r := &audit.Result{Estate: &pair.Estate{Estate: &estate.Estate{}}, Baseline: &baseline.Baseline{Name: "sound"}, Now: time.Unix(0, 0)}
	for i, t := range tunnels {
		m := &pair.Match{Name: t[0] + " <> " + t[1], Number: i, Sides: []pair.Side{side(t[0]), side(t[1])}}
		if t[1] == "" {
			m.Sides = m.Sides[:1]
		}
		r.Tunnels = append(r.Tunnels, &audit.Tunnel{Match: m, State: states[i%len(states)]})
	}
	return &report.Audited{Result: r}
}

func star(n int) (out [][2]string) {
	for i := range n {
		out = append(out, [2]string{"hub", fmt.Sprintf("spoke-%03d", i)})
	}
	return out
}

func mesh(n int) (out [][2]string) {
	for i := range n {
		for k := range i {
			out = append(out, [2]string{fmt.Sprintf("site-%02d", k), fmt.Sprintf("site-%02d", i)})
		}
	}
	return out
}

func ring(n int) (out [][2]string) {
	for i := range n {
		out = append(out, [2]string{fmt.Sprintf("site-%02d", i), fmt.Sprintf("site-%02d", (i+1)%n)})
	}
	return out
}

// TestMapsStayReadable: no two boxes overlap, none leaves the drawing, every gateway is on it, whatever the shape and the size.
func TestMapsStayReadable(t *testing.T) {
	var twoHubs, islands [][2]string
	for i := range 60 {
		twoHubs = append(twoHubs, [2]string{"hub-a", fmt.Sprintf("spoke-%03d", i)}, [2]string{"hub-b", fmt.Sprintf("spoke-%03d", i)})
		islands = append(islands, [2]string{fmt.Sprintf("left-%02d", i), fmt.Sprintf("right-%02d", i)})
	}
	up, mixed := []audit.State{audit.ComesUp}, []audit.State{audit.ComesUp, audit.Never, audit.Dies, audit.OneSided, audit.Unknown}
	for name, c := range map[string]struct {
		tunnels [][2]string
		states  []audit.State
	}{
		"one": {star(1), up}, "star of 4": {star(4), up}, "star of 10": {star(10), mixed}, "star of 40": {star(40), mixed},
		"star of 400": {star(400), up}, "star of 400, mixed": {star(400), mixed}, "mesh of 5": {mesh(5), mixed},
		"mesh of 12":              {mesh(12), up},
		"mesh of 29, 406 tunnels": {mesh(29), mixed}, "ring of 30": {ring(30), up}, "two hubs": {twoHubs, up}, "islands": {islands, mixed},
		"not given": {[][2]string{{"a", ""}, {"b", ""}, {"a", "b"}}, mixed},
	} {
		d := draw(estateOf(c.tunnels, c.states...))
		require.NotEmpty(t, d.Nodes, name)
		names := map[string]bool{}
		for i, a := range d.Nodes {
			for _, n := range a.names {
				names[n] = true
			}
			assert.True(
				t,
				a.Left()+a.X >= 0 && a.X+a.W/2 <= float64(d.Width) && a.Y-a.H/2 >= 0 && a.Y+a.H/2 <= float64(d.Height),
				"%s: %s is outside",
				name,
				a.Label,
			)
			for _, b := range d.Nodes[:i] {
				apart := math.Abs(a.X-b.X) >= (a.W+b.W)/2 || math.Abs(a.Y-b.Y) >= (a.H+b.H)/2
				assert.True(t, apart, "%s: %s covers %s", name, a.Label, b.Label)
			}
		}
		for _, tu := range c.tunnels {
			assert.True(t, names[tu[0]] && (tu[1] == "" || names[tu[1]]), "%s: %v is not on the map", name, tu)
		}
		total := 0
		for _, l := range d.Links {
			total += len(l.tunnels)
			assert.NotEmpty(t, l.Word)
		}
		assert.Equal(t, len(c.tunnels), total, "%s: every tunnel is in a link", name)
		assert.LessOrEqual(t, len(d.Nodes), 125, name)
	}
}

// TestALinkShowsTheWorst: of several tunnels between two gateways the worst decides, and a leak is worse than any state.
func TestALinkShowsTheWorst(t *testing.T) {
	a := estateOf([][2]string{{"a", "b"}, {"b", "a"}, {"a", "b"}}, audit.ComesUp, audit.Never, audit.ComesUp)
	d := draw(a)
	require.Len(t, d.Links, 1)
	assert.Equal(t, "never", d.Links[0].State)
	assert.Equal(t, "never ×3", d.Links[0].Word)
	a.Tunnels[2].Leaks = true
	d = draw(a)
	assert.Equal(t, "leaks", d.Links[0].State)
	assert.Equal(t, "up, leaks ×3", d.Links[0].Word)
	assert.Equal(t, "tunnel-2", d.Links[0].Anchor)
}
