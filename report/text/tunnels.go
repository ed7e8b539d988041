package text

import (
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/pair"
	"toril/report"
	"toril/tunnels"
)

// views writes the views for people. A default is marked with an asterisk.
func views(w io.Writer, _ *pair.Whole, all []tunnels.View, o report.Options) error {
	p := newPaper(w, o.Look)
	for i, v := range all {
		defaults, weak, differing := false, false, false
		if i > 0 {
			p.line("")
		}
		p.heading(v.Tunnel.Name)
		tw := table.NewWriter()
		tw.SetStyle(plainStyle)
		const first = 22
		head := table.Row{"", ""}
		configs := []table.ColumnConfig{{Number: 1, WidthMax: 1}, {Number: 2, WidthMax: first, WidthMaxEnforcer: wrap}}
		width := (p.look.Width-first-8)/len(v.Tunnel.Ends) - 3
		for n, end := range v.Tunnel.Ends {
			head = append(head, p.bold(end.Name()))
			configs = append(configs, table.ColumnConfig{Number: n + 3, WidthMax: width, WidthMaxEnforcer: wrap})
		}
		tw.SetColumnConfigs(configs)
		tw.AppendRow(head)
		child := ""
		for _, r := range v.Lines {
			if r.Child != child {
				child = r.Child
				tw.AppendSeparator()
				tw.AppendRow(table.Row{"", p.dim("child"), p.bold(child)})
			}
			mark := ""
			if r.Differs {
				mark, differing = p.paint("≠", text.FgRed, text.Bold), true
			}
			row := table.Row{mark, p.dim(r.Name)}
			for _, c := range r.Cells {
				said := c.Text
				if c.Default {
					said, defaults = said+" *", true
				}
				if c.Found != nil {
					said, weak = p.paint(said+" !", severityColors[c.Found.Severity]...), true
				}
				row = append(row, said)
			}
			tw.AppendRow(row)
		}
		p.table(tw)
		legend(
			p,
			mark{weak, "!", "weak: toril audit says why"},
			mark{differing, "≠", "mismatch"},
			mark{defaults, "*", "not configured; daemon default"},
		)
	}
	return p.err
}

// mark is a sign that a table may hold, and what it means.
type mark struct {
	occurs      bool
	sign, means string
}

// legend explains the signs that occur.
func legend(p *paper, marks ...mark) {
	var out []string
	for _, m := range marks {
		if m.occurs {
			out = append(out, m.sign+" "+m.means)
		}
	}
	if len(out) > 0 {
		p.line("%s", p.dim(strings.Join(out, "   ")))
	}
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
