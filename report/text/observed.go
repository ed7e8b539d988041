package text

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/model"
	"toril/observe"
	"toril/present"
	"toril/report"
)

// observed writes what saved status shows, tunnel by tunnel, and then what is wrong with it.
func observed(w io.Writer, all *report.Observed, o report.Options) error {
	p := newPaper(w, o.Look)
	silent := []string{}
	for _, v := range all.Views {
		if !v.Told() {
			silent = append(silent, v.Tunnel.Name)
			continue
		}
		p.heading(v.Tunnel.Name)
		p.line("%s", p.dim("predicted: "+all.Predicted(v)))
		for _, e := range v.Ends {
			p.seenAt(e)
		}
		p.line("")
	}
	if len(silent) > 0 {
		p.wrapped("%s", p.dim("no status given of "+strings.Join(silent, ", ")))
		p.line("")
	}
	for _, l := range all.Loose {
		p.line("%s  %s", p.bold(l.Gateway), p.dim("of connections that no file configures"))
		p.seenRows(l.Rows)
		p.failed(l.Failures, l.Counters)
		p.line("")
	}
	if len(silent) == len(all.Views) && len(all.Loose) == 0 {
		p.para(0, "None of the files that were read is saved status. "+
			"Save, for example, swanctl --list-sas > list-sas.txt beside the gateway's configuration.")
		return p.err
	}
	causes := all.Causes()
	p.counts(all.Result, causes, o)
	for _, c := range causes {
		if c.Severity >= o.Least {
			p.line("")
			p.cause(c, o.All)
		}
	}
	return p.err
}

// seenAt writes what one end saw.
func (p *paper) seenAt(e observe.EndView) {
	p.line("")
	if !e.Told {
		p.line("%s  %s", p.bold(e.Name()), p.dim("no status given"))
		return
	}
	p.line("%s", p.bold(e.Name()))
	p.seenRows(e.Rows)
	p.failed(e.Failures, e.Counters)
}

// failed writes negotiations that failed, and what interfaces counted.
func (p *paper) failed(failures []*model.Failure, counters []string) {
	for _, f := range failures {
		p.block(2, p.paint("failed", text.FgRed), fmt.Sprintf("%s (%s)", observe.FailureText(f), f.At))
	}
	for _, c := range counters {
		p.line("%s", p.dim("    "+c))
	}
}

// seenRows writes a table of SAs.
func (p *paper) seenRows(rows []observe.Row) {
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	const name, state, age = 18, 8, 13
	tw.SetColumnConfigs([]table.ColumnConfig{
		{Number: 1, WidthMax: 1},
		{Number: 2, WidthMax: name, WidthMaxEnforcer: wrap},
		{Number: 3, WidthMax: state, WidthMaxEnforcer: wrap},
		{Number: 4, WidthMax: age, Align: text.AlignRight},
		{Number: 5, WidthMax: max(30, p.look.Width-name-state-age-1-4*3), WidthMaxEnforcer: wrapLines},
	})
	for _, r := range rows {
		sign, color := "●", text.FgGreen
		switch {
		case r.State == "not told":
			sign, color = "?", text.FgYellow
		case !r.Up():
			sign, color = "○", text.FgRed
		case r.Otherwise != "" || r.Missing != "" || strings.HasPrefix(r.Words, "one way"):
			sign, color = "◑", text.FgYellow
		}
		old := ""
		if r.Age > 0 {
			old = present.Span(rounded(r.Age))
		}
		tw.AppendRow(table.Row{p.paint(sign, color), r.What, r.State, old, p.seenLines(r)})
	}
	p.table(tw)
}

// rounded leaves out the seconds of a long time.
func rounded(d time.Duration) time.Duration {
	if d > time.Hour {
		return d.Round(time.Minute)
	}
	return d
}

// seenLines puts what was seen of an SA in lines: its suite, its networks, its counters.
func (p *paper) seenLines(r observe.Row) string {
	var lines []string
	add := func(s string) {
		if s != "" {
			lines = append(lines, s)
		}
	}
	add(r.Suite)
	if r.Otherwise != "" {
		add(p.paint("by the files it would be "+r.Otherwise, text.FgYellow))
	}
	add(r.Networks)
	if r.Missing != "" {
		add(p.paint("configured and not covered: "+r.Missing, text.FgYellow))
	}
	if in, out := observe.Counted(r.In), observe.Counted(r.Out); in != "" && out != "" {
		add("in " + in + "; out " + out)
	}
	if strings.HasPrefix(r.Words, "one way") {
		add(p.paint(r.Words, text.FgYellow))
	}
	return strings.Join(lines, "\n")
}

// wrapLines wraps every line of a text by itself.
func wrapLines(s string, width int) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = wrap(lines[i], width)
	}
	return strings.Join(lines, "\n")
}
