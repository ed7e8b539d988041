package text

import (
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/text"

	"toril/audit"
	"toril/changes"
	"toril/present"
	"toril/report"
)

// differences writes what has changed: what becomes of tunnels, what means something else, then findings.
func differences(w io.Writer, d *changes.Diff, o report.Options) error {
	p := newPaper(w, o.Look)
	p.line("%s", p.bold(fmt.Sprintf("%s → %s", d.Old, d.New)))
	p.line("%s, %d gone, %d still there", present.Plural(len(d.Added), "new finding"), len(d.Gone), len(d.Still))
	if !d.Compared {
		p.line("%s", p.dim("settings and packets are compared between estates, not between reports"))
	}
	if !d.Any() {
		p.line("nothing has changed in meaning")
	}
	subject := ""
	part := func(title string, list []changes.Change) {
		if len(list) == 0 {
			return
		}
		p.line("")
		p.heading(title)
		subject = ""
		for _, c := range list {
			if c.Subject != subject {
				subject = c.Subject
				p.line("%s", p.bold(subject))
			}
			p.para(2, c.Says)
			if c.Unsure != "" {
				p.block(4, "open", c.Unsure)
			}
			if c.At != "" {
				p.line("    %s", p.dim(c.At))
			}
		}
	}
	part("tunnels", d.Tunnels)
	part("changes in meaning", d.Meaning)
	p.listed("new findings", d.Added, o, text.FgRed)
	p.listed("findings that are gone", d.Gone, o, text.FgGreen)
	return p.err
}

// listed writes findings of one kind, one line each where there is room.
func (p *paper) listed(title string, list []changes.Finding, o report.Options, sign text.Color) {
	shown, hidden := 0, 0
	for _, f := range list {
		if f.Rank() < int(o.Least) {
			hidden++
			continue
		}
		if shown++; shown == 1 {
			p.line("")
			p.heading(title)
		}
		severity, _ := audit.ParseSeverity(f.Severity)
		accepted := ""
		if f.Accepted {
			accepted = "  accepted"
		}
		p.line("%s  %s  %s", p.severity(severity), p.paint(f.Check, text.Bold, sign), p.dim(f.Subject+"  "+fmt.Sprintf("%.8s", f.ID)+accepted))
		p.para(2, f.Message)
		if f.Place != "" {
			p.line("  %s", p.dim(f.Place))
		}
	}
	if hidden > 0 && shown > 0 {
		p.line("%s", p.dim(fmt.Sprintf("and %d below %s", hidden, o.Least)))
	}
}
