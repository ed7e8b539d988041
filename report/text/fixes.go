package text

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"toril/audit"
	"toril/fix"
	"toril/present"
	"toril/report"
)

// fixes writes what becomes of each finding: its diffs with their proof, then those without a fix, each with the reason.
func fixes(w io.Writer, all []*fix.Fix, o report.Options) error {
	p := newPaper(w, o.Look)
	fixed := 0
	for _, f := range all {
		if f.Why == "" {
			fixed++
			p.fixed(f)
		}
	}
	if fixed > 0 {
		p.line("")
	}
	p.line("%s", p.bold(fmt.Sprintf("%s: %d fixed, %d not", present.Plural(len(all), "finding"), fixed, len(all)-fixed)))
	for _, f := range all {
		if f.Why != "" {
			p.line("")
			p.fixHead(&f.Finding)
			p.para(2, f.Why)
		}
	}
	return p.err
}

func (p *paper) fixHead(f *audit.Finding) {
	p.line("%s  %s  %s  %s", p.severity(f.Severity), p.bold(f.Check), f.Subject(), p.dim(f.ID[:8]))
}

// fixed writes a fix: what it does, its proof, and its diffs from the first column on, so that they can be taken as they are.
func (p *paper) fixed(f *fix.Fix) {
	p.fixHead(&f.Finding)
	p.para(2, f.Finding.Sentence())
	p.block(2, p.dim("fix   "), f.Says)
	proof := "read again: the finding is gone"
	if n := len(f.Gone); n > 0 {
		proof += ", and with it " + goneText(f.Gone)
	}
	proof += "; no other came"
	if f.Tunnel != "" && f.Before != f.After {
		proof += fmt.Sprintf("; the tunnel: %s; before: %s", f.After, f.Before)
	} else if f.Tunnel != "" {
		proof += "; the tunnel " + f.After + ", as before"
	}
	p.block(2, p.dim("proof "), proof)
	if f.Order != "" {
		p.block(2, p.dim("order "), f.Order)
	}
	for _, patch := range f.Files {
		for line := range strings.Lines(patch.Diff) {
			line = strings.TrimRight(line, "\r\n")
			switch {
			case strings.HasPrefix(line, "--- "), strings.HasPrefix(line, "+++ "), strings.HasPrefix(line, "@@"):
				line = p.dim(line)
			case strings.HasPrefix(line, "+"):
				line = p.paint(line, text.FgGreen)
			case strings.HasPrefix(line, "-"):
				line = p.paint(line, text.FgRed)
			}
			p.line("%s", line)
		}
	}
	p.line("")
}

// goneText counts findings by their checks.
func goneText(fs []*audit.Finding) string {
	var names []string
	n := map[string]int{}
	for _, f := range fs {
		if n[f.Check]++; n[f.Check] == 1 {
			names = append(names, f.Check)
		}
	}
	for i, name := range names {
		if n[name] > 1 {
			names[i] += fmt.Sprintf(" (%d)", n[name])
		}
	}
	return strings.Join(names, ", ")
}
