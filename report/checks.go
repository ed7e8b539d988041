package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/audit"
	"toril/baseline"
)

// settingBaselines names the baselines that set the level or the bounds of a check; "always" where none does.
func settingBaselines(c *audit.Check, bs []*baseline.Baseline) string {
	var out []string
	for _, b := range bs {
		for _, d := range c.Doc.Demands {
			if b.Sets(d) {
				out = append(out, b.Name)
				break
			}
		}
	}
	switch len(out) {
	case 0:
		return "always"
	case len(bs):
		return "all"
	}
	return strings.Join(out, ", ")
}

// ChecksText lists checks for people: name, severity, title, and the baselines that set them.
func ChecksText(w io.Writer, checks []*audit.Check, bs []*baseline.Baseline, look Look) error {
	p := newPaper(w, look)
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
		tw.AppendRow(table.Row{c.Name, p.severity(c.Severity), c.Title, settingBaselines(c, bs)})
	}
	p.line("%s", tw.Render())
	p.line("")
	p.line(
		"%s",
		p.dim(
			fmt.Sprintf(
				"%s; the severity is the usual one, a finding says its own. Next: toril explain NAME",
				plural(len(checks), "check"),
			),
		),
	)
	return p.err
}

type checkJSON struct {
	Name      string         `json:"name"`
	Area      string         `json:"area"`
	Severity  audit.Severity `json:"severity"`
	Title     string         `json:"title"`
	Baselines []string       `json:"baselines"`
}

// ChecksJSON lists checks for programs.
func ChecksJSON(w io.Writer, checks []*audit.Check, bs []*baseline.Baseline) error {
	out := []checkJSON{}
	for _, c := range checks {
		j := checkJSON{c.Name, c.Area(), c.Severity, c.Title, []string{}}
		switch s := settingBaselines(c, bs); s {
		case "always":
		case "all":
			for _, b := range bs {
				j.Baselines = append(j.Baselines, b.Name)
			}
		default:
			j.Baselines = strings.Split(s, ", ")
		}
		out = append(out, j)
	}
	return encode(w, out)
}

// demandText says what a name of a baseline's demand or limit means.
func demandText(name string) string {
	if name == baseline.Algorithms {
		return "the levels of algorithms"
	}
	return baseline.About(name)
}

// Explain writes the whole documentation of a check for people.
func Explain(w io.Writer, c *audit.Check, bs []*baseline.Baseline, look Look) error {
	p := newPaper(w, look)
	p.heading(c.Name)
	p.line("")
	p.line("%s (%s)", p.bold(c.Title), p.severity(c.Severity))
	for _, part := range []struct{ label, body string }{{"What it looks at", c.Doc.What}, {"Why it matters", c.Why},
		{"How an attacker or an outage uses it", c.Doc.Harm},
		{"How to fix it", c.Fix}, {"Example", c.Doc.Write}} {
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
			p.line("  %s: %s", d, demandText(d))
			for _, b := range bs {
				if said := b.Says(d); said != "" {
					p.line("    %-8s %s", b.Name, said)
				}
			}
		}
	}
	return p.err
}

// CheckPage returns the documentation page of a check as Markdown.
func CheckPage(c *audit.Check, bs []*baseline.Baseline) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s. Usual severity: %s.\n", c.Name, c.Title, c.Severity)
	for _, part := range []struct{ label, body string }{{"What it looks at", c.Doc.What}, {"Why it matters", c.Why},
		{"How an attacker or an outage uses it", c.Doc.Harm},
		{"How to fix it", c.Fix}, {"Example", c.Doc.Write}} {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", part.label, part.body)
	}
	fmt.Fprintf(&b, "\n## Sources\n\n")
	for _, s := range c.Doc.Sources {
		fmt.Fprintf(&b, "- %s\n", s)
	}
	if len(c.Doc.Demands) > 0 {
		fmt.Fprintf(&b, "\n## What a baseline says about it\n\n")
		for _, d := range c.Doc.Demands {
			fmt.Fprintf(&b, "- `%s`: %s\n", d, demandText(d))
			for _, base := range bs {
				if said := base.Says(d); said != "" {
					fmt.Fprintf(&b, "  - %s: %s\n", base.Name, said)
				}
			}
		}
	}
	return b.String()
}

// ChecksIndex returns the list of all checks as Markdown, with links to their pages.
func ChecksIndex(checks []*audit.Check, bs []*baseline.Baseline) string {
	var b strings.Builder
	b.WriteString(
		"# The checks\n\nWritten by `go generate ./...` from the checks themselves; change the text there.\n\n" +
			"| check | severity | title | set by baseline |\n| --- | --- | --- | --- |\n",
	)
	for _, c := range checks {
		fmt.Fprintf(&b, "| [%s](%s) | %s | %s | %s |\n", c.Name, PageName(c), c.Severity, c.Title, settingBaselines(c, bs))
	}
	return b.String()
}

// PageName returns the file name of a check's page: "ike-version-1.md".
func PageName(c *audit.Check) string { return strings.ReplaceAll(c.Name, "/", "-") + ".md" }
