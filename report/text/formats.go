package text

import (
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/present"
	"toril/read"
	"toril/report"
	"toril/source"
)

// savedFormats lists the saved formats for people: name, what it is, usual names of files.
func savedFormats(w io.Writer, formats []*read.Format, o report.Options) error {
	p := newPaper(w, o.Look)
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	tw.SetColumnConfigs(
		[]table.ColumnConfig{
			{Number: 2, WidthMax: p.look.Width - 56, WidthMaxEnforcer: wrap},
			{Number: 3, WidthMax: 30, WidthMaxEnforcer: wrap},
		},
	)
	tw.AppendRow(table.Row{p.bold("format"), p.bold("what it is"), p.bold("usual names")})
	tw.AppendSeparator()
	for _, f := range formats {
		tw.AppendRow(table.Row{f.Name, f.Title, strings.Join(f.Hints, " ")})
	}
	p.line("%s", tw.Render())
	p.line("")
	p.line(
		"%s",
		p.dim(
			present.Plural(
				len(formats),
				"format",
			)+"; files are recognised by their content, names only help. Next: toril formats --explain FILE",
		),
	)
	return p.err
}

// Verdict says what a file was taken for, and what else it might have been.
func Verdict(w io.Writer, name string, v read.Verdict, look report.Look) error {
	p := newPaper(w, look)
	if v.Format == nil {
		p.line("%s: not recognised: %s", p.bold(source.Clean(name)), source.Clean(v.Why))
	} else {
		p.line("%s: %s (%s)", p.bold(source.Clean(name)), v.Format.Name, v.Format.Title)
		p.line("  %d points: %s", v.Score, source.Clean(v.Why))
	}
	for _, o := range v.Others {
		p.line("  %s %s, %d points: %s", p.dim("also thought of:"), o.Format.Name, o.Score, source.Clean(o.Why))
	}
	p.line("%s", p.dim("a toril.yaml in the estate's folder can overrule this: formats: {\"gateway/file\": NAME}"))
	return p.err
}
