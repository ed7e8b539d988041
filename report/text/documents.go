package text

import (
	"io"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/present"
	"toril/report"
)

// documents writes sheets and their like for the screen.
func documents(w io.Writer, _ string, all []present.Document, o report.Options) error {
	p := newPaper(w, o.Look)
	for i, d := range all {
		if i > 0 {
			p.line("")
		}
		p.heading(d.Title)
		for _, l := range d.Lead {
			p.para(0, l)
		}
		for _, part := range d.Parts {
			p.line("")
			p.line("%s", p.bold(part.Title))
			if len(part.Rows) > 0 {
				p.cells(part)
			}
			for _, n := range part.Notes {
				p.para(2, n)
			}
		}
	}
	return p.err
}

// cells writes a table: its columns share the width.
func (p *paper) cells(part present.Part) {
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	const first = 26
	width := max(12, (p.look.Width-first-4)/max(1, len(part.Head)-1)-3)
	configs := []table.ColumnConfig{{Number: 1, WidthMax: first, WidthMaxEnforcer: wrap}}
	head := table.Row{}
	for i, h := range part.Head {
		head = append(head, p.dim(h))
		if i > 0 {
			configs = append(configs, table.ColumnConfig{Number: i + 1, WidthMax: width, WidthMaxEnforcer: wrap})
		}
	}
	tw.SetColumnConfigs(configs)
	tw.AppendRow(head)
	for _, r := range part.Rows {
		row := table.Row{p.dim(r.Name)}
		for _, c := range r.Cells {
			row = append(row, c)
		}
		tw.AppendRow(row)
	}
	p.table(tw)
}
