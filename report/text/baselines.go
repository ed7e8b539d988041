package text

import (
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/baseline"
	"toril/report"
)

// BaselineList lists baselines for people.
func BaselineList(w io.Writer, bs []*baseline.Baseline, look report.Look) error {
	p := newPaper(w, look)
	for _, b := range bs {
		name := b.Name
		if b.Name == baseline.Default {
			name += " (default)"
		}
		p.line("%s  %s", p.bold(name), b.Title)
		p.block(2, "", strings.TrimSpace(b.About))
	}
	return p.err
}

// baselines writes what baselines say, one column each, subject by subject; with one baseline, the source beside it.
func baselines(w io.Writer, bs []*baseline.Baseline, o report.Options) error {
	p := newPaper(w, o.Look)
	rows := baseline.Compare(bs...)
	for _, b := range bs {
		p.line("%s: %s", p.bold(b.Name), b.Title)
	}
	p.line("")
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	head := table.Row{""}
	for _, b := range bs {
		head = append(head, p.bold(b.Name))
	}
	if len(bs) == 1 {
		head = append(head, p.bold("source"))
	}
	tw.AppendRow(head)
	first := 38
	configs := []table.ColumnConfig{{Number: 1, WidthMax: first, WidthMaxEnforcer: wrap}}
	width := max(10, (p.look.Width-first-3)/len(bs)-3)
	if len(bs) == 1 {
		width = 16
	}
	for i := range bs {
		configs = append(configs, table.ColumnConfig{Number: i + 2, WidthMax: width, WidthMaxEnforcer: wrap})
	}
	tw.SetColumnConfigs(configs)
	kind := ""
	for _, r := range rows {
		if r.Kind != kind {
			kind = r.Kind
			tw.AppendSeparator()
			tw.AppendRow(table.Row{p.bold(kind)})
		}
		row := table.Row{strings.TrimPrefix(r.Subject, r.Kind+" ")}
		for _, c := range r.Cells {
			row = append(row, p.level(c.Text))
		}
		if len(bs) == 1 {
			source := ""
			if c := r.Cells[0]; c.Source.Document != "" {
				source = c.Source.String()
				if c.Source.Note != "" {
					source += ": " + c.Source.Note
				}
			}
			row = append(row, wrap(source, max(20, p.look.Width-first-width-9)))
		}
		tw.AppendRow(row)
	}
	p.line("%s", tw.Render())
	return p.err
}

func (p *paper) level(s string) string {
	switch {
	case strings.HasPrefix(s, "MUST NOT"):
		return p.paint(s, text.FgRed)
	case strings.HasPrefix(s, "SHOULD NOT"):
		return p.paint(s, text.FgYellow)
	case s == baseline.Unsaid.String():
		return p.dim(s)
	}
	return s
}
