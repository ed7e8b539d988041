// Package tunnels lays the settings of both ends of a tunnel side by side, as each is told, with no judgement.
package tunnels

import (
	"fmt"
	"slices"
	"strings"

	"toril/model"
	"toril/model/settings"
	"toril/pair"
	"toril/source"
	"toril/walk"
)

// View is a tunnel with its settings side by side.
type View struct {
	Tunnel *pair.Tunnel
	Lines  []Line
}

// Line is a setting, one cell an end.
type Line struct {
	Setting *settings.Row
	Name    string // for people
	Child   string // the child that it belongs to; "" for the connection
	Cells   []Cell
	Differs bool // what the two ends say does not fit; Mark sets it
}

// Cell is one end's value of a setting.
type Cell struct {
	Text    string
	Default bool       // nobody said it
	At      source.Pos // nowhere for a default
	Found   *Found     // the worst that is wrong with the value; nil for nothing; Mark sets it
}

// Of lays the settings of every tunnel side by side.
func Of(e *pair.Whole, table []*settings.Row) []View {
	out := []View{}
	walks := map[*model.Gateway]*walk.Path{}
	for _, g := range e.Gateways {
		walks[g] = walk.NewPath(g, e.Ends(g), walk.Options{})
	}
	for _, t := range e.Tunnels {
		v := View{Tunnel: t}
		var subjects []settings.Subject
		for _, end := range t.Ends {
			subjects = append(subjects, settings.Subject{Connection: end.Connection})
		}
		for _, r := range table {
			if r.Of == settings.OfConnection && r.Told(subjects...) {
				v.Lines = append(v.Lines, lineOf(r, "", subjects))
			}
		}
		for _, pair := range t.Children() {
			v.Lines = append(v.Lines, childLines(t, pair, walks, table)...)
		}
		out = append(out, v)
	}
	return out
}

func lineOf(r *settings.Row, child string, subjects []settings.Subject) Line {
	line := Line{Setting: r, Child: child}
	for _, s := range subjects {
		v, ok := r.Get(s)
		switch {
		case ok:
			line.Name = r.Label(s)
			line.Cells = append(line.Cells, Cell{Text: v.Text, Default: v.Default, At: v.At})
		case r.Of == settings.OfChild && s.Child == nil:
			line.Cells = append(line.Cells, Cell{Text: "no such child"})
		default:
			line.Cells = append(line.Cells, Cell{Text: "has no place here"})
		}
	}
	return line
}

// childLines are the lines of a pair of children; whether NAT leaves their packets alone stands before how they are started.
func childLines(t *pair.Tunnel, pair pair.ChildPair, walks map[*model.Gateway]*walk.Path, table []*settings.Row) []Line {
	children := []*model.Child{pair.A, pair.B}[:len(t.Ends)]
	var subjects []settings.Subject
	for i, c := range children {
		subjects = append(subjects, settings.Subject{Connection: t.Ends[i].Connection, Child: c})
	}
	name := nameOfPair(pair)
	var out []Line
	for _, r := range table {
		if r.Of != settings.OfChild || !r.Told(subjects...) {
			continue
		}
		if r == settings.Start.Row {
			line := Line{Setting: settings.NATExemption, Name: settings.NATExemption.Term, Child: name}
			for i, c := range children {
				cell := Cell{Text: "no such child"}
				if c != nil {
					cell = exemption(walks[t.Ends[i].Gateway], t, t.Ends[i], c)
				}
				line.Cells = append(line.Cells, cell)
			}
			out = append(out, line)
		}
		out = append(out, lineOf(r, name, subjects))
	}
	return out
}

// nameOfPair names two children that mean each other: by one name where both have it.
func nameOfPair(p pair.ChildPair) string {
	names := p.Names()
	if names[0] == names[1] || names[1] == "" {
		return names[0]
	}
	return strings.TrimPrefix(names[0]+" = "+names[1], " = ")
}

// exemption says in a few words whether a child's packets pass by source NAT.
func exemption(path *walk.Path, t *pair.Tunnel, e pair.End, c *model.Child) Cell {
	rewrites, _, ok := path.Rewrites(path.Policy(c, t.Own(e), t.Peer(e)))
	nats := slices.ContainsFunc(
		e.Gateway.Chains,
		func(c *model.Chain) bool { return c.Kind == model.NATChain && c.Hook == model.Postrouting },
	)
	switch {
	case !ok && c.RouteBased():
		return Cell{Text: "not needed: chosen by routes"}
	case !ok:
		return Cell{Text: "not known: no packet filter given"}
	case len(rewrites) > 0:
		at := rewrites[0].Rule.At
		return Cell{Text: fmt.Sprintf("missing: rewritten at line %d", at.Line), At: at}
	case !nats:
		return Cell{Text: "not needed: no source NAT"}
	}
	return Cell{Text: "exempt"}
}
