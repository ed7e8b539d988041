// Package markdown writes what is handed over or published: sheets, and the pages of the checks.
package markdown

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"toril/mirror"
	"toril/model"
	"toril/model/settings"
	"toril/report"
)

// Form is Markdown.
var Form = report.Form{Name: "markdown", Endings: []string{".md"}, Audit: audits, Changes: differences, Mirror: sheet}

// sheet writes what the far end must set as a sheet to hand over.
func sheet(w io.Writer, s mirror.Sheet, table []settings.Row) error {
	var p paper
	p.w = w
	p.line("# Far end of %s", s.For.Name())
	p.line("")
	p.line("What the administrator of the far end sets. \"Own\" is the far end, \"peer\" is %s.", s.For.Gateway.Name)
	part := func(k *model.Child) {
		p.line("")
		p.line("| setting | value |")
		p.line("| --- | --- |")
		for _, l := range s.Lines(k, table) {
			p.line("| %s | %s |", l.Name, strings.NewReplacer("|", `\|`, "\n", " ").Replace(cmp.Or(l.Text, "to be settled")))
		}
	}
	part(nil)
	for _, k := range s.Far.Children {
		p.line("")
		p.line("## Child %s", k.Name)
		part(k)
	}
	if len(s.Open) > 0 {
		p.line("")
		p.line("## To settle between the two")
		p.line("")
		for _, o := range s.Open {
			p.line("- %s", o)
		}
	}
	return p.err
}

// paper is what is written on; the first error sticks.
type paper struct {
	w   io.Writer
	err error
}

func (p *paper) line(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintf(p.w, format+"\n", args...)
	}
}
