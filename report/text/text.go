// Package text writes results for people, within a width, in colour where that is allowed.
package text

import (
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/audit"
	"toril/model"
	"toril/pair"
	"toril/present"
	"toril/report"
)

// Form is text.
var Form = report.Form{
	Name:      "text",
	Endings:   []string{".txt"},
	Audit:     audits,
	Changes:   differences,
	Tunnels:   views,
	Documents: documents,
	Fixes:     fixes,
	Observed:  observed,
	Ends:      ends,
	Follow:    trips,
	Checks:    checks,
	Baselines: baselines,
	Formats:   savedFormats,
	Daemons:   daemons,
	Defaults:  defaults,
}

// audits writes an audit for people: what becomes of every tunnel, what was not given, then the findings, the worst first, one for each
// cause. With o.All every finding is written whole, with why, and so is what was read; those below o.Least are counted and not shown.
func audits(w io.Writer, a *report.Audited, o report.Options) error {
	r := a.Result
	p := newPaper(w, o.Look)
	p.summary(r)
	p.states(r, o.All)
	p.notGiven(r.NotGiven)
	p.doubtful(r.Doubtful(), o.All)
	for _, e := range r.Problems() {
		p.block(0, "error", e.Error(), severityColors[audit.High]...)
	}
	causes := r.Causes()
	p.counts(r, causes, o)
	for s := audit.Critical; s > audit.Info && s >= o.Least; s-- {
		p.severe(s, causes, o.All)
	}
	if o.Least == audit.Info {
		p.informational(causes, o.All)
	}
	if o.All {
		p.accepted(r)
	}
	p.reading(r.Estate, o.All)
	return p.err
}

// summary says in one line what was audited.
func (p *paper) summary(r *audit.Result) {
	files := 0
	for _, g := range r.Estate.Gateways {
		files += len(g.Files)
	}
	p.line("%s", p.bold(fmt.Sprintf("%s, %s, %s, judged by the baseline %q as of %s",
		present.Plural(len(r.Estate.Gateways), "gateway"), present.Plural(files, "file"), present.Plural(len(r.Tunnels), "tunnel"),
		r.Baseline.Name, r.Now.Format(time.DateOnly))))
}

// maxRows is how many tunnels the table shows beside those with something wrong.
const maxRows = 40

// states writes the table of the tunnels, the worst first: what becomes of each, its worst finding, and how many causes there are.
func (p *paper) states(r *audit.Result, all bool) {
	rows := r.WorstFirst()
	sound := 0
	if !all && len(rows) > maxRows {
		rows = slices.DeleteFunc(rows, func(t *audit.Tunnel) bool {
			return t.Certain() == audit.ComesUp && t.Worst < audit.Low && !t.Leaks && !t.MayLeak
		})
		sound = len(r.Tunnels) - len(rows)
	}
	if len(rows) > 0 {
		p.line("")
		names := 6
		for _, t := range rows {
			names = max(names, text.StringWidthWithoutEscSequences(r.Short(t)))
		}
		const worst, counts, between = 30, 8, 4 * 3
		names = min(names, (p.look.Width-worst-counts-between)/2)
		says := min(60, p.look.Width-names-worst-counts-between-1)
		tw := table.NewWriter()
		tw.SetStyle(plainStyle)
		tw.SetColumnConfigs([]table.ColumnConfig{{Number: 1, WidthMax: 1}, {Number: 2, WidthMax: names, WidthMaxEnforcer: wrap},
			{
				Number:           3,
				WidthMax:         says,
				WidthMaxEnforcer: wrap,
			}, {Number: 4, WidthMax: worst, WidthMaxEnforcer: wrap}, {Number: 5, Align: text.AlignRight}})
		tw.AppendRow(table.Row{"", p.dim("tunnel"), p.dim("what becomes of it"), p.dim("worst finding"), p.dim("findings")})
		for _, t := range rows {
			color := stateColors[t.State]
			switch {
			case t.Leaks:
				color = stateColors[audit.Never]
			case t.Possible || t.MayLeak || t.MayLeakDown:
				color = stateColors[audit.OneSided]
			}
			worst := p.severity(t.Worst) + " " + t.WorstOf
			if t.Perhaps {
				worst = "possible " + worst
			}
			row := table.Row{p.paint(t.Sign(), color...), r.Short(t), p.paint(t.Says(), color...), worst, t.Causes}
			if t.Causes == 0 {
				row[3], row[4] = p.dim("none"), ""
			}
			tw.AppendRow(row)
		}
		p.table(tw)
	}
	if sound > 0 {
		p.line("%s", p.dim(fmt.Sprintf("and %s that come up, without findings of low or above", present.Plural(sound, "tunnel"))))
	}
}

var stateColors = [...][]text.Color{
	audit.ComesUp:  {text.FgGreen},
	audit.ByHand:   {text.FgYellow},
	audit.OneSided: {text.FgYellow},
	audit.InPart:   {text.FgYellow},
	audit.Mute:     {text.FgRed},
	audit.Dies:     {text.FgRed},
	audit.Never:    {text.FgRed},
}

// counts says how much was found, and what is not shown.
func (p *paper) counts(r *audit.Result, causes []audit.Cause, o report.Options) {
	p.line("")
	by, accepted := map[audit.Severity]int{}, 0
	for _, c := range causes {
		by[c.Severity]++
	}
	for _, f := range r.Findings {
		if f.Accepted != nil {
			accepted++
		}
	}
	if len(causes) == 0 {
		p.line("%s", p.bold("no findings"))
	} else {
		var parts []string
		hidden := 0
		for s := audit.Critical; ; s-- {
			if by[s] > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", by[s], p.severity(s)))
			}
			if s < o.Least {
				hidden += by[s]
			}
			if s == audit.Info {
				break
			}
		}
		out := fmt.Sprintf("%s: %s", p.bold(present.Plural(len(causes), "finding")), strings.Join(parts, ", "))
		if folded := len(r.Findings) - accepted - len(causes); folded > 0 && !o.All {
			out += p.dim(fmt.Sprintf("; %d more share their causes and are listed with them (--all shows everything, and why)", folded))
		}
		p.wrapped("%s", out)
		if hidden > 0 {
			less := fmt.Sprintf("%s below %s not shown (--at-least info shows all)", present.Plural(hidden, "finding"), o.Least)
			p.line("%s", p.dim(less))
		}
	}
	if accepted > 0 && !o.All {
		p.line("%s", p.dim(fmt.Sprintf("%s accepted by exceptions not shown (--all shows them)", present.Plural(accepted, "finding"))))
	}
}

// notGiven says what was not judged, each thing with the gateways that it was not given of.
func (p *paper) notGiven(list []audit.NotGiven) {
	if len(list) > 0 {
		p.line("")
	}
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

// mostDoubtful is how many statements are listed of which it is not known what they do, where not all are asked for.
const mostDoubtful = 8

// doubtful lists the statements of which it is not known what they do, each once, with what rests on it; with all, also that by name, and
// what would settle it.
func (p *paper) doubtful(list []*audit.Unsettled, all bool) {
	if len(list) > 0 {
		p.line("")
	}
	for i, u := range list {
		if i == mostDoubtful && !all {
			rest := present.Plural(len(list)-i, "more such statement")
			p.line("%s", p.dim("and "+rest+" (--all lists them)"))
			break
		}
		label := "not understood:"
		switch u.Cause {
		case model.Undecided:
			label = "not decided:"
		case model.NotGiven:
			label = "not given:"
		}
		where := u.Gateway
		if !u.At.Pos.IsZero() {
			where = strings.TrimSpace(u.At.Place() + " " + u.At.Text)
		}
		p.wrapped("%s %s (%s); %s", p.paint(label, severityColors[audit.Medium]...), where, u.Why, u.Says())
		if !all {
			continue
		}
		for _, f := range u.Answers {
			p.para(4, fmt.Sprintf("%s %s  %s", f.Severity, f.Check, f.Subject()))
		}
		for _, t := range u.Tunnels {
			p.para(4, t.Name+": "+t.Says())
		}
		p.block(4, "settle", capital(u.Settle())+".")
	}
}

// severe writes the causes of one severity.
func (p *paper) severe(s audit.Severity, causes []audit.Cause, all bool) {
	titled := false
	for _, c := range causes {
		if c.Severity != s {
			continue
		}
		if !titled || all {
			p.line("")
			titled = true
		}
		p.cause(c, all)
	}
}

// cause writes what a person must know to act: what is wrong, where, and what to write instead; with all, also why, and every part.
func (p *paper) cause(c audit.Cause, all bool) {
	rating := p.severity(c.Severity)
	head := fmt.Sprintf("%s  %s  %s  %.8s", c.Severity, c.Check, c.Subject(), c.ID)
	if c.Possible() {
		rating, head = "possible "+rating, "possible "+head
	}
	by := ""
	if room := p.look.Width - text.StringWidthWithoutEscSequences(head) - 4; c.Standard != "" && !all && room > 20 {
		word := "  by "
		if strings.HasPrefix(c.Standard, "MUST") || strings.HasPrefix(c.Standard, "SHOULD") { // it says a level first: MUST NOT by …
			word = "  "
		}
		by = text.Snip(word+c.Standard, room, "…")
	}
	p.line("%s  %s  %s%s", rating, p.bold(c.Check), p.dim(fmt.Sprintf("%s  %.8s", c.Subject(), c.ID)), p.dim(by))
	p.para(2, c.Sentence())
	p.evidence("", c.At)
	if all {
		p.whole(c.Finding)
		for _, f := range c.Parts {
			p.line("")
			p.line("  %s  %s %s  %s", p.dim("part of it:"), p.severity(f.Severity), p.bold(f.Check), p.dim(f.Subject()))
			p.para(4, f.Sentence())
			p.evidence("  ", f.At)
			p.whole(f)
		}
		return
	}
	if len(c.Others) > 0 && c.Series == "" { // else parts tells of them
		p.block(2, "lines", c.Places().String())
	}
	p.farEnd(c)
	if c.Unsure != "" {
		p.block(2, "open", capital(c.Unsure)+".")
	}
	p.block(2, "fix", c.Fix)
	p.parts(c)
}

// farEnd shows the other place of a cause that is on both ends: a part of the same check, or of the other end's evidence.
func (p *paper) farEnd(c audit.Cause) {
	for _, f := range c.Parts {
		if f.Check == c.Check && f.Series == "" && f.At.Pos != c.At.Pos {
			p.evidence("", f.At)
		}
	}
}

// parts names what else has the same cause.
func (p *paper) parts(c audit.Cause) {
	var words []string
	for _, check := range partChecks(c) {
		if s, ok := c.SeriesOf(check); ok {
			p.block(2, "lines", fmt.Sprintf("%d such rules: %s", s.Count, s.Ranges))
			p.telling(c, s)
			continue
		}
		n := 0
		var first *audit.Finding
		for _, f := range c.Parts {
			if f.Check == check {
				if n++; first == nil {
					first = f
				}
			}
		}
		switch {
		case n == 0 || check == c.Check && n == 1:
		case check == c.Check:
			words = append(words, fmt.Sprintf("%d more of it", n))
		case n == 1:
			words = append(words, fmt.Sprintf("%s (%s:%d)", check, path.Base(first.At.File), first.At.Line))
		default:
			words = append(words, fmt.Sprintf("%s (%d times)", check, n))
		}
	}
	if len(words) > 0 {
		p.block(2, "with", strings.Join(words, ", "))
	}
}

// series writes a cause of many like findings that are only worth knowing: how many, on which lines, and the most telling of them.
func (p *paper) series(c audit.Cause, s audit.Series) {
	p.line("%s  %s  %s", p.severity(c.Severity), p.bold(c.Check), p.dim(fmt.Sprintf("%s  %.8s", c.Subject(), c.ID)))
	p.para(2, fmt.Sprintf("%d rules of chain %s. %s", s.Count, c.Series, c.Sentence()))
	p.block(2, "lines", s.Ranges)
	p.evidence("", c.At)
	p.telling(c, s)
}

// telling writes the most telling findings of a series, but for the one that leads its cause.
func (p *paper) telling(c audit.Cause, s audit.Series) {
	for _, f := range s.Telling {
		if f != c.Finding {
			p.evidence("", f.At)
		}
	}
}

// partChecks are the checks of a cause, each once, its own first.
func partChecks(c audit.Cause) []string {
	out := []string{c.Check}
	for _, f := range c.Parts {
		if !slices.Contains(out, f.Check) {
			out = append(out, f.Check)
		}
	}
	return out
}

// whole writes the rest of a finding.
func (p *paper) whole(f *audit.Finding) {
	for _, e := range f.Also {
		p.evidence(e.Note, e)
	}
	if len(f.Others) > 0 {
		p.block(2, "lines", strings.Join(f.Places().List(), ", "))
	}
	if len(f.AlsoIn) > 0 {
		p.block(2, "in", "also serves "+strings.Join(f.AlsoIn, ", "))
	}
	if f.Example != "" {
		p.block(2, "as", f.Example)
	}
	if f.Unsure != "" {
		p.block(2, "open", capital(f.Unsure)+".")
	}
	p.block(2, "why", f.Why)
	p.block(2, "fix", f.Fix)
	if f.Standard != "" {
		p.block(2, "by", f.Standard)
	}
	p.block(2, "id", f.ID)
}

// evidence writes where a statement stands, and the statement, in one line where there is room.
func (p *paper) evidence(note string, e audit.Evidence) {
	if e.Pos.IsZero() {
		return
	}
	place, quote := e.Place(), e.Text
	if note = strings.TrimSpace(note); note != "" {
		quote += "  (" + note + ")"
	}
	room := p.look.Width - 4 - text.StringWidthWithoutEscSequences(place)
	switch {
	case quote == "":
		p.line("  %s", place)
	case room >= min(40, text.StringWidthWithoutEscSequences(quote)):
		p.line("  %s  %s", place, p.dim(text.Snip(quote, room, "…")))
	default:
		p.line("  %s", place)
		p.line("    %s", p.dim(text.Snip(quote, p.look.Width-4, "…")))
	}
}

// informational writes what is only worth knowing, a line for each check and message, the subjects behind it.
func (p *paper) informational(causes []audit.Cause, all bool) {
	if all {
		p.severe(audit.Info, causes, true)
		return
	}
	type line struct {
		first audit.Cause
		of    []string
	}
	var lines []*line
	index := map[string]*line{}
	for _, c := range causes {
		if c.Severity != audit.Info {
			continue
		}
		if s, ok := c.SeriesOf(c.Check); ok {
			p.line("")
			p.series(c, s)
			continue
		}
		key := c.Check
		if index[key] == nil {
			index[key] = &line{first: c}
			lines = append(lines, index[key])
		}
		index[key].of = append(index[key].of, c.Subject())
	}
	for i, l := range lines {
		if i == 0 {
			p.line("")
		}
		what := strings.TrimSuffix(l.first.Sentence(), ".")
		switch n := len(l.of); {
		case n == 1:
			what += "  " + l.of[0]
		default:
			what += fmt.Sprintf("  %d times: %s", n, strings.Join(l.of, ", "))
		}
		head := fmt.Sprintf("info  %s  ", l.first.Check)
		p.line(
			"%s%s",
			p.severity(audit.Info)+"  "+p.bold(l.first.Check)+"  ",
			p.dim(text.Snip(what, max(20, p.look.Width-len(head)), "…")),
		)
	}
}

// accepted writes what owners accept, each with its reason.
func (p *paper) accepted(r *audit.Result) {
	titled := false
	for _, f := range r.Findings {
		if f.Accepted == nil {
			continue
		}
		if !titled {
			p.line("")
			p.heading("accepted")
			titled = true
		}
		p.line("%s  %s  %s", p.severity(f.Severity), p.bold(f.Check), p.dim(f.Subject()))
		p.para(2, f.Sentence())
		p.evidence("", f.At)
		x := f.Accepted
		p.block(2, "until", fmt.Sprintf("%s, by %s: %s (%s)", x.Until.Format(time.DateOnly), x.Owner, x.Reason, x.At))
	}
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// reading states what was read, and shows what was not; with all, file by file.
func (p *paper) reading(e *pair.Estate, all bool) {
	files, statements, unread, width := 0, 0, 0, 0
	for _, g := range e.Gateways {
		for _, f := range g.Files {
			files, statements, unread = files+1, statements+f.Statements, unread+len(f.Unread)
			if all || len(f.Unread) > 0 {
				width = max(width, len(f.Path))
			}
		}
	}
	for _, l := range e.LeftOut {
		width = max(width, len(l.Path))
	}
	p.line("")
	not := "all understood"
	if unread > 0 {
		not = p.paint(fmt.Sprintf("%d not understood", unread), severityColors[audit.Medium]...)
	}
	p.line("%s %s, %s, %s", p.bold("read:"), present.Plural(files, "file"), present.Plural(statements, "statement"), not)
	for _, g := range e.Gateways {
		for _, f := range g.Files {
			if !all && len(f.Unread) == 0 {
				continue
			}
			unread := p.dim("all read")
			if len(f.Unread) > 0 {
				unread = p.paint(present.Plural(len(f.Unread), "statement")+" unread", severityColors[audit.Medium]...)
			}
			p.line("  %-*s  %-14s %s, %s", width, f.Path, f.Format, present.Plural(f.Statements, "statement"), unread)
			for i, u := range f.Unread {
				if i == 20 && !all {
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
