// Package text writes results for people, within a width, in colour where that is allowed.
package text

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"toril/audit"
	"toril/pair"
	"toril/present"
	"toril/report"
)

// Form is text.
var Form = report.Form{Name: "text", Audit: audits, Tunnels: views, Ends: ends, Follow: trips, Checks: checks, Baselines: baselines,
	Formats: savedFormats, Daemons: daemons, Defaults: defaults}

// audits writes an audit for people: a summary, then the findings grouped by tunnel, then what was read and what was not.
// Findings below least are counted and not shown.
func audits(w io.Writer, r *audit.Result, o report.Options) error {
	p := newPaper(w, o.Look)
	p.summary(r, o.Least)
	for _, group := range grouped(r) {
		titled := false
		for _, f := range group.findings {
			if f.Severity < o.Least {
				continue
			}
			if !titled {
				titled = true
				p.line("")
				p.heading(group.title)
			}
			p.finding(*f)
		}
	}
	p.reading(r.Estate)
	return p.err
}

type group struct {
	title    string
	findings []*audit.Finding
}

// grouped divides findings by tunnel, in the order of the worst of each, those of no tunnel last.
func grouped(r *audit.Result) []group {
	index := map[string]int{}
	var out []group
	for at := range r.Findings { // the worst come first
		f := &r.Findings[at]
		title := f.Tunnel
		if title == "" {
			title = "gateway " + f.Gateway
		}
		i, ok := index[title]
		if !ok {
			i = len(out)
			index[title] = i
			out = append(out, group{title: title})
		}
		out[i].findings = append(out[i].findings, f)
	}
	return out
}

func (p *paper) summary(r *audit.Result, least audit.Severity) {
	files := 0
	for _, g := range r.Estate.Gateways {
		files += len(g.Files)
	}
	p.line(
		"%s",
		p.bold(
			fmt.Sprintf(
				"%s, %s, %s, judged by the baseline %q",
				present.Plural(len(r.Estate.Gateways), "gateway"),
				present.Plural(files, "file"),
				present.Plural(len(r.Estate.Matches), "tunnel"),
				r.Baseline.Name,
			),
		),
	)
	counts := map[audit.Severity]int{}
	for _, f := range r.Findings {
		counts[f.Severity]++
	}
	if len(r.Findings) == 0 {
		p.line("no findings")
	} else {
		var parts []string
		for s := audit.Critical; ; s-- {
			if counts[s] > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", counts[s], p.severity(s)))
			}
			if s == audit.Info {
				break
			}
		}
		p.line("%s: %s", present.Plural(len(r.Findings), "finding"), strings.Join(parts, ", "))
	}
	hidden := 0
	for s, n := range counts {
		if s < least {
			hidden += n
		}
	}
	if hidden > 0 {
		p.line("%s", p.dim(fmt.Sprintf("%s below %s not shown (--at-least info shows all)", present.Plural(hidden, "finding"), least)))
	}
	if clean := unblemished(r); len(clean) > 0 {
		p.line("without findings of low or above: %s", strings.Join(clean, ", "))
	}
	p.notGiven(r.NotGiven)
	for _, e := range r.Estate.Problems {
		p.block(0, "error", e.Error(), severityColors[audit.High]...)
	}
}

// notGiven says what was not judged, each thing with the gateways that it was not given of.
func (p *paper) notGiven(list []audit.NotGiven) {
	type row struct {
		audit.Absent
		of []string
	}
	var rows []row
	for _, n := range list {
		for _, a := range n.What {
			who := n.Gateway
			if len(a.Of) > 0 {
				who = n.Gateway + "/" + strings.Join(a.Of, ", "+n.Gateway+"/")
			}
			i := slices.IndexFunc(rows, func(r row) bool { return r.Thing == a.Thing })
			if i < 0 {
				i = len(rows)
				rows = append(rows, row{Absent: a})
			}
			rows[i].of = append(rows[i].of, who)
		}
	}
	for _, r := range rows {
		const most = 8
		of := r.of
		if len(of) > most {
			of = append(slices.Clone(of[:most]), fmt.Sprintf("%d more", len(r.of)-most))
		}
		p.wrapped(
			"%s %s of %s; not judged: %s",
			p.paint("not given:", severityColors[audit.Medium]...),
			r.Thing,
			strings.Join(of, ", "),
			r.Unjudged,
		)
	}
}

// unblemished names the tunnels that no finding of low or above concerns.
func unblemished(r *audit.Result) []string {
	tunnels, gateways := map[string]bool{}, map[string]bool{}
	for _, f := range r.Findings {
		switch {
		case f.Severity < audit.Low:
		case f.Tunnel != "":
			tunnels[f.Tunnel] = true
		default:
			gateways[f.Gateway] = true
		}
	}
	var out []string
	for _, m := range r.Estate.Matches {
		if !tunnels[m.Name] && !slices.ContainsFunc(m.Sides, func(s pair.Side) bool { return gateways[s.Gateway.Name] }) {
			out = append(out, m.Name)
		}
	}
	return out
}

func (p *paper) finding(f audit.Finding) {
	where := f.Gateway
	if f.Connection != "" {
		where += "/" + f.Connection
	}
	if f.Child != "" {
		where += "/" + f.Child
	}
	p.line("")
	p.line("  %s  %s  %s", p.severity(f.Severity), p.bold(f.Check), p.dim(where))
	p.block(4, "", capital(f.Message)+".")
	p.evidence("at", f.At)
	for _, e := range f.Also {
		p.evidence("and", e)
	}
	if len(f.AlsoIn) > 0 {
		p.block(4, "in", "also serves "+strings.Join(f.AlsoIn, ", "))
	}
	if f.Example != "" {
		p.block(4, "as", f.Example)
	}
	if f.Unsure != "" {
		p.block(4, "open", capital(f.Unsure)+".")
	}
	p.block(4, "why", f.Why)
	p.block(4, "fix", f.Fix)
	if f.Standard != "" {
		p.block(4, "by", f.Standard)
	}
}

func (p *paper) evidence(label string, e audit.Evidence) {
	if e.Pos.IsZero() {
		return
	}
	place := e.Pos.String()
	if e.Note != "" {
		place += ", " + e.Note
	}
	p.block(4, label, place)
	if e.Text != "" {
		p.block(4, "", "  "+e.Text, severityColors[audit.Info]...)
	}
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// reading states what was read of every file, and shows what was not.
func (p *paper) reading(e *pair.Estate) {
	p.line("")
	p.heading("what was read")
	width := 0
	for _, g := range e.Gateways {
		for _, f := range g.Files {
			width = max(width, len(f.Path))
		}
	}
	for _, l := range e.LeftOut {
		width = max(width, len(l.Path))
	}
	for _, g := range e.Gateways {
		for _, f := range g.Files {
			unread := p.dim("all read")
			if len(f.Unread) > 0 {
				unread = p.paint(present.Plural(len(f.Unread), "statement")+" unread", severityColors[audit.Medium]...)
			}
			p.line("  %-*s  %-14s %s, %s", width, f.Path, f.Format, present.Plural(f.Statements, "statement"), unread)
			for i, u := range f.Unread {
				if i == 20 {
					p.line("      and %d more", len(f.Unread)-i)
					break
				}
				p.block(6, fmt.Sprintf("%d", u.At.Line), u.Text+"  ("+u.Why+")")
			}
		}
	}
	for _, l := range e.LeftOut {
		p.line("  %-*s  %s", width, l.Path, p.dim("left out: "+l.Why))
	}
}
