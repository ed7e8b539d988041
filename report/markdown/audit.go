package markdown

import (
	"fmt"
	"io"
	"strings"
	"time"

	"toril/audit"
	"toril/present"
	"toril/report"
)

// audits writes an audit for a ticket or a page: what becomes of every tunnel, what was not given, and the causes, the worst first. Texts
// of configurations are written so that no Markdown and no HTML in them works.
func audits(w io.Writer, a *report.Audited, o report.Options) error {
	p := &paper{w: w}
	causes := a.Causes()
	p.line("# Audit of %s", present.Plural(len(a.Tunnels), "tunnel"))
	p.line("")
	p.line("%s, judged by the baseline %s as of %s.", present.Plural(len(a.Estate.Gateways), "gateway"), inert(a.Baseline.Name),
		a.Now.Format(time.DateOnly))
	if len(a.Tunnels) > 0 {
		p.line("")
		p.line("|   | tunnel | what becomes of it | worst finding | findings |")
		p.line("| --- | --- | --- | --- | ---: |")
		for _, t := range a.WorstFirst() {
			worst := "none"
			if t.Causes > 0 {
				worst = t.Worst.String() + " " + t.WorstOf
			}
			if t.Perhaps {
				worst = "possible " + worst
			}
			p.line("| %s | %s | %s | %s | %d |", t.Sign(), inert(t.Name), inert(t.Says()), worst, t.Causes)
		}
	}
	p.limits(a)
	for _, e := range a.Problems() {
		p.line("")
		p.line("**error** %s", inert(e.Error()))
	}
	for s := audit.Critical; ; s-- {
		titled := false
		for _, c := range causes {
			if c.Severity != s || s < o.Least {
				continue
			}
			if !titled {
				p.line("")
				p.line("## %s", strings.ToUpper(s.String()[:1])+s.String()[1:])
				titled = true
			}
			p.cause(c)
		}
		if s == audit.Info {
			break
		}
	}
	if len(causes) == 0 {
		p.line("")
		p.line("No findings.")
	}
	return p.err
}

// limits lists what was not given, not understood and not decided.
func (p *paper) limits(a *report.Audited) {
	if len(a.NotGiven) > 0 {
		p.line("")
		p.line("## Not given, and so not judged")
		p.line("")
		for _, n := range a.NotGiven {
			for _, line := range n.Says() {
				p.line("- %s", inert(line))
			}
		}
	}
	if list := a.Doubtful(); len(list) > 0 {
		p.line("")
		p.line("## Not understood, or not decided")
		p.line("")
		for _, u := range list {
			where := inert(u.Gateway)
			if !u.At.Pos.IsZero() {
				where = code(strings.TrimSpace(u.At.Place() + " " + u.At.Text))
			}
			p.line("- %s %s", where, inert(u.Why+"; "+u.Says()))
		}
	}
}

func (p *paper) cause(c audit.Cause) {
	p.line("")
	if c.Possible() {
		p.line("### Possible %s: %s", c.Check, inert(c.Subject()))
	} else {
		p.line("### %s: %s", c.Check, inert(c.Subject()))
	}
	p.line("")
	p.line("%s", inert(c.Sentence()))
	p.line("")
	p.evidence(c.At)
	for _, e := range c.Also {
		p.evidence(e)
	}
	p.line("- why: %s", inert(c.Why))
	p.line("- fix: %s", inert(c.Fix))
	if c.Standard != "" {
		p.line("- by: %s", inert(c.Standard))
	}
	if c.Example != "" {
		p.line("- for example: %s", code(c.Example))
	}
	if c.Unsure != "" {
		p.line("- open: %s", inert(c.Unsure))
	}
	if len(c.Others) > 0 && c.Series == "" { // else it is among those that are told as a series
		p.line("- on lines %s", c.Places())
	}
	parts, series := c.Told()
	for _, s := range series {
		p.line("- %d of %s, on lines %s", s.Count, s.Check, s.Ranges)
	}
	for _, f := range parts {
		p.line("- with %s %s: %s (%s)", f.Severity, f.Check, inert(f.Message), code(f.At.Place()))
	}
	p.line("- id: `%s`", c.ID)
}

func (p *paper) evidence(e audit.Evidence) {
	if e.Pos.IsZero() {
		return
	}
	out := "- " + code(e.Place())
	if e.Text != "" {
		out += " " + code(e.Text)
	}
	if e.Note != "" {
		out += " " + inert(e.Note)
	}
	p.line("%s", out)
}

// inert writes a text so that Markdown and HTML in it are shown and do nothing (CommonMark section 2.4), and nothing becomes a link.
func inert(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == '\r' || r == '\t':
			b.WriteByte(' ')
			continue
		case r == '<':
			b.WriteString("&lt;")
			continue
		case r == '&':
			b.WriteString("&amp;")
			continue
		case strings.ContainsRune("\\`*_{}[]#|~!$", r), b.Len() == 0 && strings.ContainsRune(">-+=", r):
			b.WriteByte('\\')
		case b.Len() == 0 && r >= '0' && r <= '9':
			fmt.Fprintf(&b, "&#%d;", r)
			continue
		case r == '@' || r == ':' && strings.HasSuffix(b.String(), "http") || r == ':' && strings.HasSuffix(b.String(), "https"):
			fmt.Fprintf(&b, "&#%d;", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// code writes a text as a code span, with more backticks around it than there are in it (CommonMark section 6.1); a bar would end a cell.
func code(s string) string {
	s = strings.NewReplacer("\n", " ", "\r", " ", "\t", " ").Replace(s)
	longest, run := 0, 0
	for _, r := range s {
		if r == '`' {
			run++
			longest = max(longest, run)
		} else {
			run = 0
		}
	}
	fence := strings.Repeat("`", longest+1)
	if strings.HasPrefix(s, "`") || strings.HasSuffix(s, "`") {
		s = " " + s + " "
	}
	return fence + s + fence
}
