package html

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"toril/audit"
	"toril/present"
	"toril/report"
)

// drawing is the map of gateways and tunnels, in units of a pixel.
type drawing struct {
	Width, Height int
	Nodes         []*node
	Links         []*link
	Cells         []*square // of gateways that are all tied to each other: a square for every link, twice
	Heads         []*square // the columns of the squares
	Legend        []verdict // the states that occur on it
	Grouped       int       // gateways that stand in a group
}

// node is a gateway, a far end that was not given, or a group of gateways.
type node struct {
	key          string
	X, Y, W, H   float64 // the middle, and the size
	Label, Under string
	Class        string // gateway, absent or group
	Says         string
	Gateway      string // that findings can be filtered by; "" for none
	names        []string
	links        []*link
}

// link is the tunnels between two nodes.
type link struct {
	a, b           *node
	X1, Y1, X2, Y2 float64
	MX, MY, W      float64 // where its label is, and how wide
	State, Mark    string
	Word, Says     string
	Anchor         string
	Labelled       bool
	Square         bool // it is not a line, but a square of a grid
	tunnels        []*audit.Tunnel
}

// square is a link between the gateway of its row and that of its column; or the head of a column.
type square struct {
	*link
	X, Y float64
	Text string
}

// height of a node, and width of a character of a label.
const nodeHeight, character = 40.0, 7.4

// draw lays the map out.
func draw(a *report.Audited) *drawing {
	nodes := graph(a)
	d := &drawing{}
	joinAlike(nodes, d)
	x, y, row := 0.0, 0.0, 0.0
	for _, c := range components(nodes) {
		first, head := len(d.Cells), len(d.Heads)
		var w, h float64
		if dense(c) {
			w, h = d.grid(c)
		} else {
			w, h = place(c)
		}
		if x > 0 && x+w > 1180 {
			x, y, row = 0, y+row, 0
		}
		for _, n := range c {
			n.X, n.Y = n.X+x+w/2, n.Y+y+h/2
			d.Nodes = append(d.Nodes, n)
		}
		for _, s := range slices.Concat(d.Cells[first:], d.Heads[head:]) {
			s.X, s.Y = s.X+x+w/2, s.Y+y+h/2
		}
		x, row = x+w, max(row, h)
		d.Width, d.Height = max(d.Width, int(x)), max(d.Height, int(y+row))
	}
	d.lines()
	return d
}

// graph makes a node of every gateway that is an end of a tunnel and of every far end that was not given, and a link of what is between
// two.
func graph(a *report.Audited) map[string]*node {
	counts := map[string]int{}
	for _, c := range a.Causes() {
		counts[c.Gateway]++
	}
	nodes := map[string]*node{}
	at := func(key, label, class string) *node {
		n := nodes[key]
		if n == nil {
			n = &node{key: key, Label: label, Class: class, names: []string{label}}
			if class == "gateway" {
				n.Gateway, n.Under = label, present.Plural(counts[label], "finding")
			} else {
				n.Under = "not given"
			}
			n.Says = n.Label + " " + n.Under
			nodes[key] = n
		}
		return n
	}
	for _, t := range a.Tunnels {
		near := t.Sides[0]
		from := at("g "+near.Gateway.Name, near.Gateway.Name, "gateway")
		var to *node
		switch {
		case len(t.Sides) == 2:
			to = at("g "+t.Sides[1].Gateway.Name, t.Sides[1].Gateway.Name, "gateway")
		case t.Toward != nil:
			to = at("g "+t.Toward.Name, t.Toward.Name, "gateway")
		default:
			to = at("p "+near.Gateway.Name+near.Connection.Name, shortened(near.Connection.Remote.String(), 22), "absent")
		}
		from.tie(to, t)
	}
	return nodes
}

// tie adds a tunnel to the link between two nodes.
func (n *node) tie(to *node, t *audit.Tunnel) {
	i := slices.IndexFunc(n.links, func(l *link) bool { return l.other(n) == to })
	if i < 0 {
		l := &link{a: n, b: to}
		i, n.links = len(n.links), append(n.links, l)
		if to != n {
			to.links = append(to.links, l)
		}
	}
	n.links[i].tunnels = append(n.links[i].tunnels, t)
}

func (l *link) other(n *node) *node {
	if l.a == n {
		return l.b
	}
	return l.a
}

// worst is the tunnel of a link that is worst off.
func (l *link) worst() *audit.Tunnel {
	return slices.MaxFunc(l.tunnels, func(a, b *audit.Tunnel) int { return cmp.Compare(badness(a), badness(b)) })
}

func badness(t *audit.Tunnel) int {
	if t.Leaks {
		return int(audit.Never) + 1
	}
	return int(t.Certain())
}

// manyAlike is how many gateways with the same neighbours and the same state are drawn one by one.
const manyAlike = 10

// joinAlike joins gateways that have the same neighbours, by tunnels of the same states, where they are many.
func joinAlike(nodes map[string]*node, d *drawing) {
	alike := map[string][]*node{}
	for _, key := range slices.Sorted(maps.Keys(nodes)) {
		n := nodes[key]
		var words []string
		for _, l := range n.links {
			words = append(words, fmt.Sprintf("%s %d", l.other(n).key, badness(l.worst())))
		}
		if slices.Sort(words); len(n.links) <= 4 {
			sign := strings.Join(words, "\x00")
			alike[sign] = append(alike[sign], n)
		}
	}
	for _, sign := range slices.Sorted(maps.Keys(alike)) {
		of := alike[sign]
		if len(of) <= manyAlike {
			continue
		}
		first := of[0]
		g := &node{key: "s " + first.key, Label: fmt.Sprintf("%d gateways", len(of)), Class: "group"}
		for _, n := range of {
			g.names = append(g.names, n.Label)
			delete(nodes, n.key)
			for _, l := range n.links {
				hub := l.other(n)
				hub.links = slices.DeleteFunc(hub.links, func(o *link) bool { return o == l })
				for _, t := range l.tunnels {
					g.tie(hub, t)
				}
			}
		}
		d.Grouped += len(of)
		g.Under = shortened(g.names[0]+" … "+g.names[len(g.names)-1], 30)
		g.Says = fmt.Sprintf("%s %s: %s", g.Label, g.Under, shortened(strings.Join(g.names, ", "), 300))
		nodes[g.key] = g
	}
}

// components are the nodes that are tied to each other, the largest first.
func components(nodes map[string]*node) [][]*node {
	seen := map[*node]bool{}
	var out [][]*node
	for _, key := range slices.Sorted(maps.Keys(nodes)) {
		if seen[nodes[key]] {
			continue
		}
		seen[nodes[key]] = true
		c := []*node{nodes[key]}
		for i := 0; i < len(c); i++ {
			for _, l := range c[i].links {
				if o := l.other(c[i]); !seen[o] {
					seen[o] = true
					c = append(c, o)
				}
			}
		}
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(a, b []*node) int { return cmp.Compare(len(b), len(a)) })
	return out
}

// dense reports whether a component has so many links that lines would cover each other.
func dense(c []*node) bool {
	links := 0
	for _, n := range c {
		links += len(n.links)
	}
	return len(c) >= 7 && links > 5*len(c) // each link is counted at both ends
}

// pitch is the size of a square of a grid.
const pitch = 26.0

// grid lays a component out as rows and columns of gateways, with a square where two are tied. It returns the size.
func (d *drawing) grid(c []*node) (width, height float64) {
	c = slices.Clone(c)
	slices.SortFunc(c, func(a, b *node) int { return cmp.Compare(a.key, b.key) })
	widest, longest := 0.0, 0
	column := map[*node]float64{}
	for i, n := range c {
		n.H, n.W, n.Under = pitch-4, 20+character*float64(len([]rune(n.Label))), ""
		widest, longest = max(widest, n.W), max(longest, len([]rune(n.Label)))
		column[n] = float64(i)
	}
	top := 24 + character*0.75*float64(longest)
	side := pitch * float64(len(c))
	width, height = widest+side+60, top+side+24
	x0, y0 := widest+20-width/2, top-height/2
	for i, n := range c {
		n.X, n.Y = x0-6-n.W/2, y0+pitch*(float64(i)+0.5)
		d.Heads = append(d.Heads, &square{X: x0 + pitch*(float64(i)+0.5), Y: y0 - 6, Text: n.Label})
		for _, l := range n.links {
			l.Square = true
			d.Cells = append(d.Cells, &square{link: l, X: x0 + pitch*(column[l.other(n)]+0.5), Y: y0 + pitch*(float64(i)+0.5)})
		}
	}
	return width, height
}

// place lays a component out around 0, 0: hubs in the middle, the others on an ellipse around them, each near its hub. It returns the
// size.
func place(c []*node) (width, height float64) {
	widest := 0.0
	for _, n := range c {
		n.H = nodeHeight
		n.W = 20 + character*float64(max(len([]rune(n.Label)), len([]rune(n.Under))*6/7))
		widest = max(widest, n.W)
	}
	hubs, ring := divide(c)
	rx, ry := max(200, widest+75, 26*float64(len(ring)), float64(len(hubs))*90), max(115, 13*float64(len(ring)))
	if len(c) == 2 {
		c[0].X, c[0].Y, c[1].X, c[1].Y = -125, 0, 125, 0
		return 250 + widest + 40, 90
	}
	for i, n := range hubs {
		if len(hubs) > 1 {
			angle := math.Pi + 2*math.Pi*float64(i)/float64(len(hubs))
			n.X, n.Y = rx*0.42*math.Cos(angle), ry*0.4*math.Sin(angle)
		}
	}
	for i, n := range ring {
		angle := 2*math.Pi*float64(i)/float64(len(ring)) - math.Pi
		n.X, n.Y = rx*math.Cos(angle), ry*math.Sin(angle)
	}
	return 2*rx + widest + 40, 2*ry + nodeHeight + 44
}

// divide parts a component into hubs and the ring around them. The ring is in the order of a walk that goes to neighbours first.
func divide(c []*node) (hubs, ring []*node) {
	links := 0
	for _, n := range c {
		links += len(n.links)
	}
	for _, n := range c {
		if len(c) > 3 && len(n.links) >= 3 && len(n.links)*len(c) > 3*links/2 {
			hubs = append(hubs, n)
		}
	}
	if len(hubs) > 5 || len(hubs) == len(c) {
		hubs = nil
	}
	slices.SortFunc(hubs, func(a, b *node) int { return cmp.Compare(a.key, b.key) })
	seen := map[*node]bool{}
	for _, h := range hubs {
		seen[h] = true
	}
	var visit func(*node)
	visit = func(n *node) {
		if !seen[n] {
			seen[n] = true
			ring = append(ring, n)
		}
		next := slices.Clone(n.links)
		slices.SortFunc(next, func(a, b *link) int { return cmp.Compare(a.other(n).key, b.other(n).key) })
		for _, l := range next {
			if o := l.other(n); !seen[o] {
				visit(o)
			}
		}
	}
	for _, h := range hubs {
		visit(h)
	}
	for _, n := range c {
		visit(n)
	}
	return hubs, ring
}

// manyLinks is how many links have words on them; beyond, only those that are not sound have.
const manyLinks = 24

// lines draws the links, with their labels, and says which states there are.
func (d *drawing) lines() {
	seen := map[*link]bool{}
	states := map[string]verdict{}
	for _, n := range d.Nodes {
		for _, l := range n.links {
			if !seen[l] && l.a != l.b {
				seen[l] = true
				d.Links = append(d.Links, l)
			}
		}
	}
	for _, l := range d.Links {
		t := l.worst()
		l.X1, l.Y1 = l.a.edge(l.b)
		l.X2, l.Y2 = l.b.edge(l.a)
		l.MX, l.MY = (l.X1+l.X2)/2, (l.Y1+l.Y2)/2
		l.State, l.Mark, l.Anchor = stateClass(t), t.Sign(), anchor(t)
		l.Word = word(t)
		l.Says = fmt.Sprintf("%s and %s: %s", l.a.Label, l.b.Label, t.Says())
		if n := len(l.tunnels); n > 1 {
			l.Word += fmt.Sprintf(" ×%d", n)
			l.Says = fmt.Sprintf("%s and %s, %d tunnels, the worst: %s", l.a.Label, l.b.Label, n, t.Says())
		}
		l.Labelled = !l.Square && (len(d.Links) <= manyLinks || badness(t) > int(audit.ComesUp))
		l.W = 28 + 6.8*float64(len([]rune(l.Word)))
		states[l.State] = verdict{State: l.State, Mark: l.Mark}
		if t.Leaks {
			states[l.State] = verdict{State: l.State, Mark: "▲"}
		}
	}
	d.legend(states)
}

// legend lists the states that occur, the worst first.
func (d *drawing) legend(states map[string]verdict) {
	for _, s := range []string{"leaks", "never", "dies", "passes-nothing", "in-part", "one-sided", "by-hand", "may-leak", "unknown",
		"comes-up"} {
		if v, ok := states[s]; ok {
			v.Says = strings.ReplaceAll(s, "-", " ")
			switch s {
			case "unknown":
				v.Says = "not known"
			case "may-leak":
				v.Says = "up, and may leak, or leaks while down"
			}
			d.Legend = append(d.Legend, v)
		}
	}
}

// edge is where the straight line to another node leaves a node's box.
func (n *node) edge(to *node) (x, y float64) {
	dx, dy := to.X-n.X, to.Y-n.Y
	share := 1.0
	if dx != 0 {
		share = min(share, n.W/2/math.Abs(dx))
	}
	if dy != 0 {
		share = min(share, n.H/2/math.Abs(dy))
	}
	return n.X + dx*share, n.Y + dy*share
}

// word is the shortest that says what becomes of a tunnel.
func word(t *audit.Tunnel) string {
	out := map[audit.State]string{audit.ComesUp: "up", audit.Unknown: "not known", audit.ByHand: "by hand", audit.OneSided: "one-sided",
		audit.InPart: "in part", audit.Mute: "passes nothing", audit.Never: "never"}[t.State]
	if t.State == audit.Dies {
		out = "dies " + present.Span(t.After)
	}
	if t.Possible && t.State != audit.Unknown {
		out = "perhaps " + out
	}
	switch {
	case t.Leaks:
		out += ", leaks"
	case t.MayLeak:
		out += ", may leak"
	}
	return out
}

func shortened(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// Left is where a node's box begins, from its middle.
func (n *node) Left() float64 { return -n.W / 2 }

// Left and Top are where a link's label begins.
func (l *link) Left() float64 { return l.MX - l.W/2 }

// Top is its upper edge.
func (l *link) Top() float64 { return l.MY - 9 }

// Up is where a node's box begins, from its middle.
func (n *node) Up() float64 { return -n.H / 2 }
