package text

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/audit"
	"toril/negotiate"
	"toril/pair"
	"toril/present"
	"toril/report"
)

// ends writes for every tunnel what matters first: whether it comes up, who can initiate it, protected by what, and until when; then what
// each end's initiating leads to, told once where it is the same; then both ends side by side. With o.OnlyDifferences the rows that fit
// each other are left out.
func ends(w io.Writer, e *pair.Whole, all []negotiate.Compared, o report.Options) error {
	p := newPaper(w, o.Look)
	for i, c := range all {
		t, attempts := c.Tunnel, c.Attempts
		if i > 0 {
			p.line("")
		}
		p.heading(t.Name)
		if attempts == nil {
			p.line("the far end was not given: there is nothing to compare (%s)", t.Reason)
			continue
		}
		f := ending{p, e}
		f.verdict(audit.Predict(e.Matches[i], t, attempts))
		if len(t.Ends) < 2 {
			p.line("%s", t.Reason)
		}
		if len(attempts) == 2 && sameAttempt(&attempts[0], &attempts[1]) {
			f.attempt(attempts[0], &attempts[1])
		} else {
			for _, a := range attempts {
				f.attempt(a, nil)
			}
		}
		for _, d := range t.Doubts {
			p.line("%s %s", p.dim("doubt:"), d)
		}
		if len(t.Ends) == 2 {
			p.line("")
			endsTable(p, t, c.Lines, o.OnlyDifferences)
		}
	}
	if len(all) == 0 {
		p.line("no tunnels")
	}
	return p.err
}

// ending is a paper that knows where statements stand.
type ending struct {
	*paper
	estate *pair.Whole
}

// verdict says in one line what becomes of a tunnel.
func (f ending) verdict(t *audit.Tunnel) {
	color := stateColors[t.State]
	f.line("%s %s", f.paint(t.State.Mark(), color...), f.paint(t.Says(), append([]text.Color{text.Bold}, color...)...))
}

// sameAttempt reports whether it is all the same which end initiates.
func sameAttempt(a, b *negotiate.Attempt) bool {
	if a.Outcome != b.Outcome || a.Failure == nil && a.Version != b.Version || a.IKE != b.IKE || a.Aggressive != b.Aggressive ||
		a.Retry != b.Retry || a.Unsure() != b.Unsure() || !sameFailure(a.Rekey.Failure, b.Rekey.Failure) ||
		!sameFailure(a.Failure, b.Failure) || len(a.Children) != len(b.Children) ||
		!slices.Equal(a.Notes, b.Notes) {
		return false
	}
	for i := range a.Children {
		x := &a.Children[i]
		if !slices.ContainsFunc(b.Children, func(y negotiate.Child) bool {
			return (y.Of == x.With && y.With == x.Of || x.Failure != nil && sameFailure(x.Failure, y.Failure)) && sameChild(x, &y)
		}) {
			return false
		}
	}
	return true
}

// sameChild reports whether what becomes of a child is what becomes of its counterpart as the other end initiates.
func sameChild(x, y *negotiate.Child) bool {
	return x.Outcome == y.Outcome && x.Suite == y.Suite && x.Mode == y.Mode && x.Local.String() == y.Remote.String() &&
		x.Remote.String() == y.Local.String() && sameFailure(x.Failure, y.Failure) && slices.Equal(x.Notes, y.Notes) &&
		x.Broken == y.Broken && sameRekey(x.Rekey, y.Rekey)
}

// sameRekey does so for the renewal of keys: who renews first may differ where it succeeds.
func sameRekey(x, y negotiate.Rekey) bool {
	fails := func(o negotiate.Outcome) bool { return o == negotiate.Fails }
	return x.Outcome == y.Outcome && x.After == y.After && x.Ends == y.Ends && (x.By == y.By || x.Outcome == negotiate.Agrees) &&
		fails(x.ByInitiator) == fails(y.ByResponder) && fails(x.ByResponder) == fails(y.ByInitiator)
}

// sameFailure reports whether two failures are about the same two statements, whichever end begins.
func sameFailure(a, b *negotiate.Failure) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Topic == b.Topic && a.Notify == b.Notify &&
		(a.Lines == b.Lines || a.Lines[0] == b.Lines[1] && a.Lines[1] == b.Lines[0])
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
	defaults, differing := false, false
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
			mark, differing = p.paint("≠", text.FgRed, text.Bold), true
		}
		row := table.Row{mark, p.dim(r.Name)}
		for _, v := range r.Values {
			s := v.Text
			if v.Default {
				s, defaults = s+" *", true
			}
			row = append(row, s)
		}
		tw.AppendRow(append(row, r.Agreed))
	}
	if shown == 0 {
		p.line("both ends match")
		return
	}
	p.table(tw)
	legend(p, mark{differing, "≠", "mismatch"}, mark{defaults, "*", "not configured; daemon default"})
}

// attempt says what one end's initiating leads to; either says that the other's, which is given then, leads to the same.
func (f ending) attempt(a negotiate.Attempt, other *negotiate.Attempt) {
	p := f.paper
	who := a.Initiator.Gateway.Name + " initiates:"
	if other != nil {
		who = "either end initiates:"
	}
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
		say(a.PartlyUp(), ", "+ikeText(a), bad...)
	case negotiate.NoStart:
		say("cannot", ": "+a.Failure.Why, bad...)
	default:
		step := " in " + string(a.Failure.Step)
		if other != nil && other.Failure.Step != a.Failure.Step {
			step = ""
		}
		say("fails"+step+notifyText(a.Failure), "", bad...)
		f.failure(a.Failure)
	}
	f.rekeyIKE(a)
	for i, c := range a.Children {
		if c.Outcome != negotiate.Agrees {
			p.line("  child %s %s", c.Of.Name, p.paint("fails in "+string(c.Failure.Step)+notifyText(c.Failure), bad...))
			f.failure(c.Failure)
			continue
		}
		networks := fmt.Sprintf("%s to %s", c.Local, c.Remote)
		if c.BrokenBy == negotiate.Selectors {
			networks = "no networks in common"
		}
		p.block(2, "child", fmt.Sprintf("%s: %s, %s mode, %s; %s", c.Of.Name, c.Suite.Protocol, c.Mode, c.Suite, networks))
		by := c.Rekey.By
		if other != nil && c.Rekey.Outcome == negotiate.Agrees && len(other.Children) > i && other.Children[i].Rekey.By != by {
			by = "whichever end initiated"
		}
		f.broken(c)
		f.rekey(c.Rekey, by)
		for _, n := range c.Notes {
			p.block(4, "note", n)
		}
	}
	for _, n := range a.Notes {
		p.block(2, "note", n)
	}
	if why := a.Unsure(); why != "" {
		p.block(2, "but", why+": the result may differ")
	}
}

// broken says why a child that comes up passes nothing.
func (f ending) broken(c negotiate.Child) {
	if c.Broken == "" {
		return
	}
	f.block(4, "but", f.paint(c.Broken, text.FgRed))
	for _, at := range c.BrokenAt {
		f.place(4, f.estate, at)
	}
}

// rekeyIKE says where an IKE SA that comes up cannot be renewed, and who renews it where both ends have their own time.
func (f ending) rekeyIKE(a negotiate.Attempt) {
	r := a.Rekey
	switch {
	case a.Failure != nil:
		return
	case r.Failure == nil:
		if more := report.Later(r); more != "" {
			f.block(2, "keys", fmt.Sprintf("the IKE SA is rekeyed within %s by %s", present.Span(r.After), r.By)+more)
		}
		return
	}
	out := "rekeying the IKE SA fails within " + present.Span(r.After)
	if r.Outcome != negotiate.Fails {
		out = "rekeying the IKE SA fails if " + a.Initiator.Gateway.Name + " begins it"
	}
	f.block(2, "keys", f.paint(out, text.FgRed))
	f.failure(r.Failure)
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

func (f ending) failure(x *negotiate.Failure) {
	p := f.paper
	p.block(4, "why", x.Why)
	for _, at := range x.Lines {
		f.place(4, f.estate, at)
	}
	for i, c := range x.Changes {
		label := ""
		if i == 0 {
			label = "fix"
		}
		p.block(4, label, c)
	}
}

func (f ending) rekey(r negotiate.Rekey, by string) {
	p := f.paper
	switch {
	case r.Outcome == negotiate.Never:
		p.block(4, "keys", "is never rekeyed by time")
	case r.Outcome == negotiate.Agrees:
		p.block(4, "keys", fmt.Sprintf("rekeyed within %s by %s", present.Span(r.After), by)+report.Later(r))
		if r.ByInitiator == negotiate.Fails || r.ByResponder == negotiate.Fails {
			p.block(4, "", "rekeying initiated by the other end would fail")
		}
	default:
		out := fmt.Sprintf("rekeying fails within %s", present.Span(r.After))
		if r.Ends > 0 {
			out += fmt.Sprintf("; the child SA expires after %s", present.Span(r.Ends))
		}
		p.block(4, "keys", p.paint(out, text.FgRed))
		f.failure(r.Failure)
	}
}
