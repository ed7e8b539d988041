package markdown

import (
	"fmt"
	"strings"

	"toril/audit"
	"toril/baseline"
	"toril/report"
)

// CheckPage returns the documentation page of a check as Markdown.
func CheckPage(c *audit.Check, bs []*baseline.Baseline) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s. Usual severity: %s.\n", c.Name, c.Title, c.Severity)
	for _, part := range []struct{ label, body string }{{"What it looks at", c.Doc.What}, {"Why it matters", c.Why},
		{"How an attacker or an outage uses it", c.Doc.Harm},
		{"How to fix it", c.Fix}, {"Example", c.Example()}} {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", part.label, part.body)
	}
	fmt.Fprintf(&b, "\n## Sources\n\n")
	for _, s := range c.Doc.Sources {
		fmt.Fprintf(&b, "- %s\n", s)
	}
	if len(c.Doc.Demands) > 0 {
		fmt.Fprintf(&b, "\n## What a baseline says about it\n\n")
		for _, d := range c.Doc.Demands {
			fmt.Fprintf(&b, "- `%s`: %s\n", d, report.DemandText(d))
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
		fmt.Fprintf(&b, "| [%s](%s) | %s | %s | %s |\n", c.Name, PageName(c), c.Severity, c.Title, report.SettingBaselines(c, bs))
	}
	return b.String()
}

// PageName returns the file name of a check's page: "ike-version-1.md".
func PageName(c *audit.Check) string { return strings.ReplaceAll(c.Name, "/", "-") + ".md" }
