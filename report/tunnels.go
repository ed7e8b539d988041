package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/baseline"
	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/walk"
)

// TunnelsSchema names the contract of the JSON form of tunnels.
const TunnelsSchema = "toril-tunnels/1"

// Cell is one end's value of a parameter.
type Cell struct {
	Value   string `json:"value"`
	Default bool   `json:"default"` // nobody said it
	File    string `json:"file"`
	Line    int    `json:"line"`
}

// Row is a parameter that people compare, one cell an end.
type Row struct {
	Name  string `json:"name"`
	Child string `json:"child"` // the child that it belongs to; "" for the connection
	Cells []Cell `json:"cells"`
}

// Sheet is a tunnel with its parameters side by side.
type Sheet struct {
	Name string    `json:"name"`
	Ends []endJSON `json:"ends"`
	Rows []Row     `json:"rows"`
}

func cell[T any](s model.Setting[T], value string) Cell {
	return Cell{Value: value, Default: s.IsDefault(), File: s.At.File, Line: s.At.Line}
}

// Sheets lays the parameters of every tunnel side by side.
func Sheets(e *estate.Estate) []Sheet {
	out := []Sheet{}
	walks := map[*model.Gateway]*walk.Path{}
	for _, g := range e.Gateways {
		walks[g] = walk.NewPath(g, e.Ends(g), walk.Options{})
	}
	for _, t := range e.Tunnels {
		s := Sheet{Name: t.Name}
		for _, end := range t.Ends {
			s.Ends = append(s.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
		}
		s.Rows = connectionRows(t)
		for _, pair := range t.Children() {
			s.Rows = append(s.Rows, childRows(t, pair, walks)...)
		}
		out = append(out, s)
	}
	return out
}

func connectionRows(t *estate.Tunnel) []Row {
	type of func(c *model.Connection) Cell
	var out []Row
	for _, r := range []struct {
		name string
		of   of
	}{
		{"own address", func(c *model.Connection) Cell { return cell(c.LocalAddrs, c.LocalAddrs.Value.String()) }},
		{"peer address", func(c *model.Connection) Cell { return cell(c.RemoteAddrs, c.RemoteAddrs.Value.String()) }},
		{"own identity", func(c *model.Connection) Cell { return cell(c.Local.ID, c.Local.ID.Value.String()) }},
		{"peer identity", func(c *model.Connection) Cell { return cell(c.Remote.ID, c.Remote.ID.Value.String()) }},
		{"authentication", func(c *model.Connection) Cell {
			return cell(c.Local.Method, c.Local.Method.Value.String())
		}},
		{"IKE version", func(c *model.Connection) Cell { return cell(c.Version, c.Version.Value.String()) }},
		{"IKE proposals", func(c *model.Connection) Cell { return cell(c.Proposals, proposals(c.Proposals.Value)) }},
		{"key exchange", func(c *model.Connection) Cell {
			return cell(c.Proposals, few(ike.All(c.Proposals.Value, ike.KeyExchange)))
		}},
		{"IKE lifetime", func(c *model.Connection) Cell {
			s := c.LifetimeSetting()
			if c.Lifetime() == 0 {
				return cell(s, "no end")
			}
			return cell(s, baseline.Span(c.Lifetime()))
		}},
		{"liveness check", func(c *model.Connection) Cell {
			if c.DPD.Value == 0 {
				return cell(c.DPD, "off")
			}
			return cell(c.DPD, "every "+baseline.Span(c.DPD.Value))
		}},
	} {
		row := Row{Name: r.name}
		for _, end := range t.Ends {
			row.Cells = append(row.Cells, r.of(end.Connection))
		}
		out = append(out, row)
	}
	return out
}

func proposals(ps []ike.Proposal) string {
	var out []string
	for _, p := range ps {
		if p.Text == "" {
			return fmt.Sprintf("%s of the daemon's own, %s and more", plural(len(ps), "proposal"), ps[0].Transforms[ike.Encryption][0])
		}
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

func few(cs ike.Choices) string {
	if len(cs) > 3 {
		return cs[:3].Labels() + fmt.Sprintf(" and %d more", len(cs)-3)
	}
	return cs.Labels()
}

func childRows(t *estate.Tunnel, pair estate.ChildPair, walks map[*model.Gateway]*walk.Path) []Row {
	children := []*model.Child{pair.A, pair.B}[:len(t.Ends)]
	var names []string
	for _, c := range children {
		if c != nil && !slices.Contains(names, c.Name) {
			names = append(names, c.Name)
		}
	}
	var out []Row
	for _, r := range []struct {
		name string
		of   func(e estate.End, c *model.Child) Cell
	}{
		{"local networks", func(_ estate.End, c *model.Child) Cell { return cell(c.Local, c.Local.Value.String()) }},
		{"remote networks", func(_ estate.End, c *model.Child) Cell { return cell(c.Remote, c.Remote.Value.String()) }},
		{"ESP proposals", func(_ estate.End, c *model.Child) Cell { return cell(c.Proposals, proposals(c.Proposals.Value)) }},
		{"PFS", func(_ estate.End, c *model.Child) Cell { return cell(c.Proposals, pfs(c.Proposals.Value)) }},
		{"mode", func(_ estate.End, c *model.Child) Cell { return cell(c.Mode, c.Mode.Value.String()) }},
		{"lifetime", func(_ estate.End, c *model.Child) Cell {
			if c.Rekey.Value == 0 {
				return cell(c.Rekey, "no end")
			}
			return cell(c.Rekey, baseline.Span(c.Rekey.Value))
		}},
		{"NAT exemption", func(e estate.End, c *model.Child) Cell { return exemption(walks[e.Gateway], t, e, c) }},
		{"started", func(_ estate.End, c *model.Child) Cell { return cell(c.Start, c.Start.Value.String()) }},
	} {
		row := Row{Name: r.name, Child: strings.Join(names, " = ")}
		for i, c := range children {
			if c == nil {
				row.Cells = append(row.Cells, Cell{Value: "no such child"})
				continue
			}
			row.Cells = append(row.Cells, r.of(t.Ends[i], c))
		}
		out = append(out, row)
	}
	return out
}

func pfs(ps []ike.Proposal) string {
	cs := ike.All(ps, ike.KeyExchange)
	asked := 0
	for _, p := range ps {
		if a, optional := p.PFS(); a && !optional {
			asked++
		}
	}
	switch {
	case len(cs) == 0:
		return "none"
	case asked < len(ps):
		return "optional, " + few(cs)
	}
	return few(cs)
}

// exemption says in a few words whether a child's packets pass by source NAT.
func exemption(path *walk.Path, t *estate.Tunnel, e estate.End, c *model.Child) Cell {
	rewrites, ok := path.Rewrites(path.Policy(c, t.Own(e), t.Peer(e)))
	nats := slices.ContainsFunc(e.Gateway.Chains, func(c *model.Chain) bool { return c.Kind == model.NATChain && c.Hook == model.Postrouting })
	switch {
	case !ok && c.RouteBased():
		return Cell{Value: "not needed: chosen by routes"}
	case !ok:
		return Cell{Value: "not known: no packet filter given"}
	case len(rewrites) > 0:
		at := rewrites[0].Rule.At
		return Cell{Value: fmt.Sprintf("missing: rewritten at line %d", at.Line), File: at.File, Line: at.Line}
	case !nats:
		return Cell{Value: "not needed: no source NAT"}
	}
	return Cell{Value: "exempt"}
}

// TunnelsText writes the sheets for people. A default is marked with an asterisk.
func TunnelsText(w io.Writer, e *estate.Estate, look Look) error {
	p := newPaper(w, look)
	marked := false
	for i, s := range Sheets(e) {
		if i > 0 {
			p.line("")
		}
		p.heading(s.Name)
		tw := table.NewWriter()
		tw.SetStyle(plainStyle)
		head := table.Row{""}
		configs := []table.ColumnConfig{{Number: 1, WidthMax: 16}}
		width := (p.look.Width-16-2)/len(s.Ends) - 3
		for n, end := range s.Ends {
			head = append(head, p.bold(end.Gateway+"/"+end.Connection))
			configs = append(configs, table.ColumnConfig{Number: n + 2, WidthMax: width, WidthMaxEnforcer: wrap})
		}
		tw.SetColumnConfigs(configs)
		tw.AppendRow(head)
		child := ""
		for _, r := range s.Rows {
			if r.Child != child {
				child = r.Child
				tw.AppendSeparator()
				tw.AppendRow(table.Row{p.dim("child"), p.bold(child)})
			}
			row := table.Row{p.dim(r.Name)}
			for _, c := range r.Cells {
				v := c.Value
				if c.Default {
					v += " *"
					marked = true
				}
				row = append(row, v)
			}
			tw.AppendRow(row)
		}
		p.line("%s", tw.Render())
	}
	if marked {
		p.line("")
		p.line("%s", p.dim("* not configured; daemon default"))
	}
	return p.err
}

// plainStyle is a table of words: no frame, a thin rule between parts.
var plainStyle = func() table.Style {
	s := table.StyleLight
	s.Name = "toril"
	s.Options = table.Options{SeparateRows: false}
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "   "
	s.Options.SeparateHeader = false
	return s
}()

// TunnelsJSON writes the sheets for programs.
func TunnelsJSON(w io.Writer, e *estate.Estate) error {
	return encode(w, struct {
		Schema  string      `json:"schema"`
		Tunnels []Sheet     `json:"tunnels"`
		Errors  []errorJSON `json:"errors"`
	}{TunnelsSchema, Sheets(e), errorsJSON(e)})
}

func errorsJSON(e *estate.Estate) []errorJSON {
	out := []errorJSON{}
	for _, p := range e.Problems {
		out = append(out, errorJSON{p.File, p.Line, p.Col, p.Message})
	}
	return out
}
