package markdown

import (
	"io"
	"strings"

	"toril/present"
	"toril/report"
)

// documents writes sheets and their like.
func documents(w io.Writer, _ string, all []present.Document, _ report.Options) error {
	p := paper{w: w}
	for i, d := range all {
		if i > 0 {
			p.line("")
		}
		p.line("# %s", d.Title)
		for _, l := range d.Lead {
			p.line("")
			p.line("%s", l)
		}
		for _, part := range d.Parts {
			p.part(part)
		}
	}
	return p.err
}

func (p *paper) part(part present.Part) {
	p.line("")
	p.line("## %s", part.Title)
	p.line("")
	if len(part.Rows) > 0 {
		p.line("| %s |", strings.Join(cells(part.Head), " | "))
		p.line("|%s", strings.Repeat(" --- |", len(part.Head)))
		for _, r := range part.Rows {
			p.line("| %s | %s |", cell(r.Name), strings.Join(cells(r.Cells), " | "))
		}
		if len(part.Notes) > 0 {
			p.line("")
		}
	}
	for _, n := range part.Notes {
		p.line("- %s", n)
	}
}

func cells(of []string) []string {
	out := make([]string, len(of))
	for i, c := range of {
		out[i] = cell(c)
	}
	return out
}

func cell(text string) string { return strings.NewReplacer("|", `\|`, "\n", " ").Replace(text) }
