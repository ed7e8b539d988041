package text

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/audit"
	"toril/baseline"
	"toril/present"
	"toril/report"
)

// checks lists checks for people: name, severity, title, and the baselines that set them.
func checks(w io.Writer, checks []*audit.Check, bs []*baseline.Baseline, o report.Options) error {
	p := newPaper(w, o.Look)
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	tw.SetColumnConfigs(
		[]table.ColumnConfig{
			{Number: 3, WidthMax: p.look.Width - 66, WidthMaxEnforcer: wrap},
			{Number: 4, WidthMax: 22, WidthMaxEnforcer: wrap},
		},
	)
	tw.AppendRow(table.Row{p.bold("name"), p.bold("severity"), p.bold("title"), p.bold("set by baseline")})
	area := ""
	for _, c := range checks {
		if c.Area() != area {
			area = c.Area()
			tw.AppendSeparator()
		}
		tw.AppendRow(table.Row{c.Name, p.severity(c.Severity), c.Title, report.SettingBaselines(c, bs)})
	}
	p.line("%s", tw.Render())
	p.line("")
	p.line(
		"%s",
		p.dim(
			fmt.Sprintf(
				"%s; the severity is the usual one, a finding says its own. Next: toril explain NAME",
				present.Plural(len(checks), "check"),
			),
		),
	)
	return p.err
}

// Explain writes the whole documentation of a check for people.
func Explain(w io.Writer, c *audit.Check, bs []*baseline.Baseline, look report.Look) error {
	p := newPaper(w, look)
	p.heading(c.Name)
	p.line("")
	p.line("%s (%s)", p.bold(c.Title), p.severity(c.Severity))
	for _, part := range []struct{ label, body string }{{"What it looks at", c.Doc.What}, {"Why it matters", c.Why},
		{"How an attacker or an outage uses it", c.Doc.Harm},
		{"How to fix it", c.Fix}, {"Example", c.Example()}} {
		p.line("")
		p.line("%s", p.bold(part.label))
		for _, l := range strings.Split(wrap(part.body, p.look.Width-2), "\n") {
			p.line("  %s", strings.TrimRight(l, " "))
		}
	}
	p.line("")
	p.line("%s", p.bold("Sources"))
	for _, s := range c.Doc.Sources {
		p.line("  %s", s)
	}
	if len(c.Doc.Demands) > 0 {
		p.line("")
		p.line("%s", p.bold("What a baseline says about it"))
		for _, d := range c.Doc.Demands {
			p.line("  %s: %s", d, report.DemandText(d))
			for _, b := range bs {
				if said := b.Says(d); said != "" {
					p.line("    %-8s %s", b.Name, said)
				}
			}
		}
	}
	return p.err
}
