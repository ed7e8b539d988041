package report

import (
	"io"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/estate"
	"toril/tunnels"
)

// TunnelsSchema names the contract of the JSON form of tunnels.
const TunnelsSchema = "toril-tunnels/1"

// cellJSON is one end's value of a setting.
type cellJSON struct {
	Value   string `json:"value"`
	Default bool   `json:"default"` // nobody said it
	File    string `json:"file"`
	Line    int    `json:"line"`
}

type lineJSON struct {
	Setting string     `json:"setting"` // its name in docs/settings.md
	Name    string     `json:"name"`
	Child   string     `json:"child"` // the child that it belongs to; "" for the connection
	Cells   []cellJSON `json:"cells"`
}

type viewJSON struct {
	Name string     `json:"name"`
	Ends []endJSON  `json:"ends"`
	Rows []lineJSON `json:"rows"`
}

// TunnelsText writes the views for people. A default is marked with an asterisk.
func TunnelsText(w io.Writer, views []tunnels.View, look Look) error {
	p := newPaper(w, look)
	marked := false
	for i, v := range views {
		if i > 0 {
			p.line("")
		}
		p.heading(v.Tunnel.Name)
		tw := table.NewWriter()
		tw.SetStyle(plainStyle)
		const first = 22
		head := table.Row{""}
		configs := []table.ColumnConfig{{Number: 1, WidthMax: first, WidthMaxEnforcer: wrap}}
		width := (p.look.Width-first-2)/len(v.Tunnel.Ends) - 3
		for n, end := range v.Tunnel.Ends {
			head = append(head, p.bold(end.Name()))
			configs = append(configs, table.ColumnConfig{Number: n + 2, WidthMax: width, WidthMaxEnforcer: wrap})
		}
		tw.SetColumnConfigs(configs)
		tw.AppendRow(head)
		child := ""
		for _, r := range v.Lines {
			if r.Child != child {
				child = r.Child
				tw.AppendSeparator()
				tw.AppendRow(table.Row{p.dim("child"), p.bold(child)})
			}
			row := table.Row{p.dim(r.Name)}
			for _, c := range r.Cells {
				text := c.Text
				if c.Default {
					text += " *"
					marked = true
				}
				row = append(row, text)
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

// TunnelsJSON writes the views for programs.
func TunnelsJSON(w io.Writer, e *estate.Estate, views []tunnels.View) error {
	out := []viewJSON{}
	for _, v := range views {
		one := viewJSON{Name: v.Tunnel.Name, Rows: []lineJSON{}}
		for _, end := range v.Tunnel.Ends {
			one.Ends = append(one.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
		}
		for _, l := range v.Lines {
			line := lineJSON{Setting: l.Setting, Name: l.Name, Child: l.Child}
			for _, c := range l.Cells {
				line.Cells = append(line.Cells, cellJSON{c.Text, c.Default, c.At.File, c.At.Line})
			}
			one.Rows = append(one.Rows, line)
		}
		out = append(out, one)
	}
	return encode(w, struct {
		Schema  string      `json:"schema"`
		Tunnels []viewJSON  `json:"tunnels"`
		Errors  []errorJSON `json:"errors"`
	}{TunnelsSchema, out, errorsJSON(e)})
}

func errorsJSON(e *estate.Estate) []errorJSON {
	out := []errorJSON{}
	for _, p := range e.Problems {
		out = append(out, errorJSON{p.File, p.Line, p.Col, p.Message})
	}
	return out
}
