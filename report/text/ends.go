package text

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/negotiate"
	"toril/pair"
	"toril/present"
	"toril/report"
)

// ends writes both ends of every tunnel side by side, and what they would agree on. With onlyDifferences the rows
// that fit each other are left out.
func ends(w io.Writer, _ *pair.Whole, all []negotiate.Compared, o report.Options) error {
	p := newPaper(w, o.Look)
	for i, c := range all {
		t, attempts := c.Tunnel, c.Attempts
		if i > 0 {
			p.line("")
		}
		p.heading(t.Name)
		switch {
		case attempts == nil:
			p.line("the far end was not given: there is nothing to compare (%s)", t.Reason)
			continue
		case len(t.Ends) < 2:
			p.line("%s", t.Reason)
		default:
			endsTable(p, t, c.Lines, o.OnlyDifferences)
		}
		for _, a := range attempts {
			p.line("")
			attemptText(p, a)
		}
		for _, d := range t.Doubts {
			p.line("%s %s", p.dim("doubt:"), d)
		}
	}
	if len(all) == 0 {
		p.line("no tunnels")
	}
	return p.err
}

func endsTable(p *paper, t *pair.Tunnel, rows []negotiate.Line, onlyDifferences bool) {
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	const names = 18
	width := (p.look.Width - names - 2 - 4*3) / 3
	configs := []table.ColumnConfig{{Number: 1, WidthMax: 2}, {Number: 2, WidthMax: names + 8, WidthMaxEnforcer: wrap}}
	for n := range 3 {
		configs = append(configs, table.ColumnConfig{Number: n + 3, WidthMax: width, WidthMaxEnforcer: wrap})
	}
	tw.SetColumnConfigs(configs)
	tw.AppendRow(table.Row{"", "", p.bold(t.Ends[0].Gateway.Name), p.bold(t.Ends[1].Gateway.Name), p.bold("agreed")})
	child, shown := "", 0
	for _, r := range rows {
		if onlyDifferences && !r.Differs {
			continue
		}
		shown++
		if r.Child != child {
			child = r.Child
			tw.AppendSeparator()
			tw.AppendRow(table.Row{"", p.dim("child"), p.bold(child)})
		}
		mark := ""
		if r.Differs {
			mark = p.paint("≠", text.FgRed, text.Bold)
		}
		row := table.Row{mark, p.dim(r.Name)}
		for _, v := range r.Values {
			s := v.Text
			if v.Default {
				s += " *"
			}
			row = append(row, s)
		}
		tw.AppendRow(append(row, r.Agreed))
	}
	if shown == 0 {
		p.line("both ends match")
		return
	}
	p.line("%s", tw.Render())
	p.line("%s", p.dim("≠ mismatch   * not configured; daemon default"))
}

func attemptText(p *paper, a negotiate.Attempt) {
	who := a.Initiator.Gateway.Name + " initiates:"
	bad := []text.Color{text.FgRed}
	say := func(outcome, more string, colors ...text.Color) {
		for i, l := range strings.Split(wrap(who+" "+outcome+more, p.look.Width-2), "\n") {
			if i > 0 {
				l = "  " + l
			} else if rest, whole := strings.CutPrefix(l, who+" "+outcome); whole {
				l = p.bold(who) + " " + p.paint(outcome, colors...) + rest
			}
			p.line("%s", strings.TrimRight(l, " "))
		}
	}
	switch a.Outcome {
	case negotiate.Agrees:
		say("comes up", ", "+ikeText(a), text.FgGreen)
	case negotiate.Partly:
		say("the IKE SA comes up, but not every child", ", "+ikeText(a), bad...)
	case negotiate.NoStart:
		say("cannot", ": "+a.Failure.Why, bad...)
	default:
		say("fails in "+string(a.Failure.Step)+notifyText(a.Failure), "", bad...)
		failureText(p, a.Failure)
	}
	for _, c := range a.Children {
		if c.Outcome != negotiate.Agrees {
			p.line("  child %s %s", c.Of.Name, p.paint("fails in "+string(c.Failure.Step)+notifyText(c.Failure), bad...))
			failureText(p, c.Failure)
			continue
		}
		p.block(2, "child", fmt.Sprintf("%s: %s, %s mode, %s; %s to %s", c.Of.Name, c.Suite.Protocol, c.Mode, c.Suite, c.Local, c.Remote))
		rekeyText(p, c.Rekey)
		for _, n := range c.Notes {
			p.block(4, "note", n)
		}
	}
	for _, n := range a.Notes {
		p.block(2, "note", n)
	}
	if a.Unsure != "" {
		p.block(2, "but", a.Unsure+": the result may differ")
	}
}

func ikeText(a negotiate.Attempt) string {
	out := fmt.Sprintf("%s, %s", a.Version, a.IKE)
	if a.Aggressive {
		out += ", aggressive mode"
	}
	if a.Retry {
		out += "; at the second try, as the responder asks for another group"
	}
	return out
}

func notifyText(f *negotiate.Failure) string {
	if f.Notify == "" {
		return ""
	}
	return " (" + f.Notify + ")"
}

func failureText(p *paper, f *negotiate.Failure) {
	p.block(4, "why", f.Why)
	for _, at := range f.Lines {
		if !at.IsZero() {
			p.line("    %s%s", p.dim(fmt.Sprintf("%-6s", "line")), at)
		}
	}
	for i, c := range f.Changes {
		label := ""
		if i == 0 {
			label = "fix"
		}
		p.block(4, label, c)
	}
}

func rekeyText(p *paper, r negotiate.Rekey) {
	switch {
	case r.Outcome == negotiate.Never:
		p.block(4, "keys", "is never rekeyed by time")
	case r.Outcome == negotiate.Agrees:
		p.block(4, "keys", fmt.Sprintf("rekeyed within %s by %s", present.Span(r.After), r.By))
		if r.ByInitiator == negotiate.Fails || r.ByResponder == negotiate.Fails {
			p.block(4, "", "rekeying initiated by the other end would fail")
		}
	default:
		out := fmt.Sprintf("rekeying fails within %s", present.Span(r.After))
		if r.Ends > 0 {
			out += fmt.Sprintf("; the child SA expires after %s", present.Span(r.Ends))
		}
		p.block(4, "keys", p.paint(out, text.FgRed))
		failureText(p, r.Failure)
	}
}
