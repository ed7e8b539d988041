package pair

import (
	"cmp"
	"context"
	"io/fs"
	"slices"
	"strings"

	"toril/estate"
	"toril/model"
	"toril/source"
	"toril/walk"
)

// Estate is an estate whose connections are paired. Its gateways come and go; see Open.
type Estate struct {
	*estate.Estate
	Matches []*Match // by name
	of      groups   // those that concern a gateway, by its number
	sides   groups   // those that a connection is a side of, by first and its number in its gateway
	first   []int    // the number of a gateway's first connection among those of all, by the gateway's
}

// groups are lists of matches, each by name, in one piece.
type groups struct {
	ends []int // where each list ends
	all  []*Match
}

// at returns a list; it must not be changed.
func (g groups) at(n int) []*Match {
	from := 0
	if n > 0 {
		from = g.ends[n-1]
	}
	return g.all[from:g.ends[n]:g.ends[n]]
}

// grouped makes n lists of what a function tells of them, twice the same.
func grouped(n int, tell func(add func(list int, m *Match))) groups {
	g := groups{ends: make([]int, n)}
	tell(func(list int, _ *Match) { g.ends[list]++ })
	total := 0
	for i, of := range g.ends {
		g.ends[i], total = total, total+of // where it begins, until it is filled
	}
	g.all = make([]*Match, total)
	tell(func(list int, m *Match) {
		g.all[g.ends[list]] = m
		g.ends[list]++
	})
	return g
}

// Of pairs the connections of an estate and gives every match the intent that means it; one that means none is a problem.
func Of(e *estate.Estate) *Estate {
	out := &Estate{Estate: e, Matches: matches(e.Gateways), first: make([]int, len(e.Gateways))}
	connections := 0
	for i, f := range e.Gateways {
		out.first[i], connections = connections, connections+len(f.Connections)
	}
	for i, m := range out.Matches {
		m.Number = i
	}
	out.sides = grouped(connections, func(add func(int, *Match)) {
		for _, m := range out.Matches {
			for _, s := range m.Sides {
				add(out.first[s.Gateway.Number]+s.place, m)
			}
		}
	})
	out.of = grouped(len(e.Gateways), func(add func(int, *Match)) {
		for _, m := range out.Matches {
			for _, f := range m.Gateways() {
				add(f.Number, m)
			}
		}
	})
	out.declare()
	return out
}

// sidesOf are the matches that a connection is a side of: none where its daemon does not load it.
func (e *Estate) sidesOf(g *model.Gateway, c *model.Connection) []*Match {
	if c.Number >= len(g.Connections) || g.Connections[c.Number] != c {
		return nil
	}
	return e.sides.at(e.first[g.Number] + c.Number)
}

// Load finds and reads an estate, as estate.Load does, and pairs its connections.
func Load(ctx context.Context, paths []string, opts estate.Options) (*Estate, error) {
	e, err := estate.Load(ctx, paths, opts)
	if err != nil {
		return nil, err
	}
	return Of(e), nil
}

// LoadFS reads an estate out of a file system, as estate.LoadFS does, and pairs its connections.
func LoadFS(ctx context.Context, fsys fs.FS, opts estate.Options) (*Estate, error) {
	e, err := estate.LoadFS(ctx, fsys, opts)
	if err != nil {
		return nil, err
	}
	return Of(e), nil
}

// MatchesAbout returns the matches that a gateway is a side of, or the far gateway that has no counterpart. They must not be changed.
func (e *Estate) MatchesAbout(f *estate.Facts) []*Match { return e.of.at(f.Number) }

// MatchesOf is MatchesAbout for a gateway that is open.
func (e *Estate) MatchesOf(g *model.Gateway) []*Match { return e.of.at(g.Number) }

// MatchesOfAny returns the matches that any of a gateway's connections is a side of, each once, by name.
func (e *Estate) MatchesOfAny(g *model.Gateway, of ...*model.Connection) []*Match {
	var out []*Match
	for _, c := range of {
		out = append(out, e.sidesOf(g, c)...)
	}
	slices.SortFunc(out, func(a, b *Match) int { return cmp.Compare(a.Number, b.Number) })
	return slices.Compact(out)
}

// MatchOf returns the first match of a gateway's connection; nil where it has none.
func (e *Estate) MatchOf(g *model.Gateway, c *model.Connection) *Match {
	if of := e.sidesOf(g, c); len(of) > 0 {
		return of[0]
	}
	return nil
}

// Of reports whether the side is a connection of a gateway.
func (s Side) Of(g *model.Gateway, c *model.Connection) bool {
	return s.Gateway.Number == g.Number && s.place == c.Number
}

// Ends returns, for a gateway, the function that walk.NewPath wants: the addresses of every tunnel that a connection is
// an end of. A connection of no tunnel, which only lets packets pass or drops them, has one pair of unknown addresses.
func (e *Estate) Ends(g *model.Gateway) func(*model.Connection) []walk.Ends {
	of := map[*model.Connection][]walk.Ends{}
	for _, m := range e.MatchesOf(g) {
		for i, s := range m.Sides {
			if s.Gateway.Number == g.Number {
				c := g.Connections[s.place]
				of[c] = append(of[c], walk.Ends{Own: m.Own(i), Peer: m.Peer(i), InUDP: m.InUDP(i)})
			}
		}
	}
	return func(c *model.Connection) []walk.Ends {
		if len(of[c]) == 0 {
			return []walk.Ends{{}}
		}
		return of[c]
	}
}

// Gateways are those that a match concerns, each once.
func (m *Match) Gateways() []*estate.Facts {
	var out []*estate.Facts
	for _, s := range m.Sides {
		if !slices.Contains(out, s.Gateway) {
			out = append(out, s.Gateway)
		}
	}
	if m.Toward != nil && !slices.Contains(out, m.Toward) {
		out = append(out, m.Toward)
	}
	return out
}

// OpenTunnel returns the tunnel of a match, with its gateways, until it is closed. Errors are those of Open.
func (e *Estate) OpenTunnel(ctx context.Context, m *Match) (*Tunnel, error) {
	t := &Tunnel{Name: m.Name, Reason: m.Reason, Doubts: m.Doubts, Intent: m.Intent}
	at := map[*estate.Facts]*model.Gateway{}
	for i, f := range m.Gateways() {
		g, err := e.Open(ctx, f)
		if err != nil {
			for _, f := range m.Gateways()[:i] {
				e.Close(f)
			}
			return nil, err
		}
		at[f] = g
	}
	for _, s := range m.Sides {
		g := at[s.Gateway]
		t.Ends = append(t.Ends, End{g, g.Connections[s.place]})
	}
	if m.Toward != nil {
		t.Toward = at[m.Toward]
	}
	if m.unloaded != nil {
		t.Unloaded = t.Toward.Unloaded[m.unloaded.place]
	}
	return t, nil
}

// CloseTunnel says that a tunnel that was opened is not used any more.
func (e *Estate) CloseTunnel(m *Match) {
	for _, f := range m.Gateways() {
		e.Close(f)
	}
}

// declare gives every match the intent that means it; one that means none is a problem, as it may be a slip.
func (e *Estate) declare() {
	for _, m := range e.Matches {
		for _, in := range e.Intents {
			if m.Intent == nil && means(in, m) {
				m.Intent, in.Used = in, true
			}
		}
	}
	for _, in := range e.Intents {
		if !in.Used {
			what := "no tunnel is between " + strings.Join(in.Between, " and ")
			if len(in.Between) == 1 {
				what = "no tunnel of " + in.Between[0] + " has a far end that was not given"
			}
			e.Problems = append(e.Problems, source.Errorf(in.At, "%s", source.Clean(what)))
		}
	}
}

func means(in *estate.Intent, m *Match) bool {
	has := func(name string, connection bool) bool {
		return slices.ContainsFunc(m.Sides, func(s Side) bool {
			return s.Gateway.Name == name && (!connection || in.Connection == "" || s.Connection.Name == in.Connection)
		})
	}
	if !has(in.Between[0], true) {
		return false
	}
	if len(in.Between) == 1 {
		return len(m.Sides) == 1
	}
	return len(m.Sides) == 2 && has(in.Between[1], false)
}

// Whole is an estate all of which is in memory.
type Whole struct {
	*Estate
	Gateways []*model.Gateway // by name
	Tunnels  []*Tunnel        // by name
	files    map[string]*model.File
}

// Whole opens every gateway and every tunnel, for good. Errors are those of Open.
func (e *Estate) Whole(ctx context.Context) (*Whole, error) {
	w := &Whole{Estate: e, Gateways: make([]*model.Gateway, len(e.Estate.Gateways)), Tunnels: make([]*Tunnel, len(e.Matches)),
		files: map[string]*model.File{}}
	var err error
	for i, f := range e.Estate.Gateways {
		if w.Gateways[i], err = e.Open(ctx, f); err != nil {
			return nil, err
		}
		for _, x := range w.Gateways[i].Files {
			w.files[x.Path] = x
		}
	}
	for i, m := range e.Matches {
		if w.Tunnels[i], err = e.OpenTunnel(ctx, m); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// WholeFS does as LoadFS does, and opens all of it.
func WholeFS(ctx context.Context, fsys fs.FS, opts estate.Options) (*Whole, error) {
	e, err := LoadFS(ctx, fsys, opts)
	if err != nil {
		return nil, err
	}
	return e.Whole(ctx)
}

// Gateway returns a gateway by name; nil where there is none.
func (w *Whole) Gateway(name string) *model.Gateway {
	for _, g := range w.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// TunnelsOf returns the tunnels that concern a gateway, as MatchesOf does.
func (w *Whole) TunnelsOf(g *model.Gateway) []*Tunnel {
	var out []*Tunnel
	for _, m := range w.MatchesOf(g) {
		out = append(out, w.Tunnels[m.Number])
	}
	return out
}

// file returns a file by its shown path; nil where there is none.
func (w *Whole) file(path string) *source.File {
	if f := w.files[path]; f != nil {
		return f.File
	}
	return w.Config(path)
}

// Quote returns the statement at a position, fit to be shown; "" where there is none.
func (w *Whole) Quote(p source.Pos) string {
	if f := w.file(p.File); f != nil {
		return f.Quote(p)
	}
	return ""
}

// Region returns the region of the statement at a position; zero where there is none.
func (w *Whole) Region(p source.Pos) source.Region {
	if f := w.file(p.File); f != nil {
		return f.Region(p)
	}
	return source.Region{}
}

// Place returns a position as "path:line:column", or as much of it as is known.
func (w *Whole) Place(p source.Pos) string {
	if p.Col == 0 {
		p.Col = int(w.Region(p).Column)
	}
	return p.String()
}
