package text

import (
	"io"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/pair"
	"toril/report"
	"toril/tunnels"
)

// views writes the views for people. A default is marked with an asterisk.
func views(w io.Writer, _ *pair.Whole, all []tunnels.View, o report.Options) error {
	p := newPaper(w, o.Look)
	marked := false
	for i, v := range all {
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
