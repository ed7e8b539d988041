// Package markdown writes what is handed over or published: sheets, and the pages of the checks.
package markdown

import (
	"fmt"
	"io"

	"toril/report"
)

// Form is Markdown.
var Form = report.Form{Name: "markdown", Endings: []string{".md"}, Audit: audits, Changes: differences, Documents: documents}

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
