package text

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/follow"
	"toril/packet"
	"toril/pair"
	"toril/present"
	"toril/report"
	"toril/source"
	"toril/walk"
)

// maxParts is how many parts of an answer the text tells; the JSON has all.
const maxParts = 12

// trips writes where packets go, step by step.
func trips(w io.Writer, e *pair.Whole, q report.Asked, trips []*follow.Trip, o report.Options) error {
	f := trail{newPaper(w, o.Look), e}
	f.heading(q.String())
	trips = slices.Clone(trips)
	slices.SortStableFunc(trips, func(a, b *follow.Trip) int {
		return cmp.Compare(map[bool]int{true: 1}[a.Own], map[bool]int{true: 1}[b.Own])
	})
	f.overview(trips)
	n, first := 0, true
	for _, t := range trips {
		for _, p := range t.Parts {
			if n++; n > maxParts {
				continue
			}
			if !first {
				f.line("")
			}
			first = false
			f.part(t, p)
		}
	}
	switch {
	case n == 0:
		f.line("no such packet can arrive there")
	case n > maxParts:
		f.line("")
		f.line("and %s; ask for fewer packets, or for JSON", present.Plural(n-maxParts, "more part"))
	}
	return f.err
}

// trail is a paper that quotes the estate.
type trail struct {
	*paper
	estate *pair.Whole
}

// overview is a table of what becomes of which packets, and by which statement, where that differs from packet to packet.
func (f trail) overview(trips []*follow.Trip) {
	total := 0
	for _, t := range trips {
		total += len(t.Parts)
	}
	if total < 2 {
		return
	}
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	const decided = 34
	width := (f.look.Width - decided - 10) / 2
	tw.SetColumnConfigs([]table.ColumnConfig{{Number: 1, WidthMax: 1}, {Number: 2, WidthMax: width, WidthMaxEnforcer: wrap},
		{Number: 3, WidthMax: width, WidthMaxEnforcer: wrap}, {Number: 4, WidthMax: decided, WidthMaxEnforcer: wrap}})
	tw.AppendRow(table.Row{"", f.dim("packets"), f.dim("what becomes of them"), f.dim("decided by")})
	rows := 0
	for _, t := range trips {
		for _, p := range t.Parts {
			if rows++; rows > maxParts {
				continue
			}
			sum, ok := follow.Verdict(t, p, f.estate.Place)
			mark, style := "○", []text.Color{text.FgRed}
			if ok {
				mark, style = "●", []text.Color{text.FgGreen}
			}
			packets := p.Came.Free(packet.State, packet.Direction, packet.Mark, packet.ConnMark, packet.PeerIn).String()
			if t.Own {
				packets = "its own: " + packets
			}
			tw.AppendRow(
				table.Row{
					f.paint(mark, style...),
					shortened(packets, 3*width),
					f.paint(shortened(sum, 3*width), style...),
					f.estate.Place(p.Decisive()),
				},
			)
		}
	}
	f.table(tw)
	if rows > maxParts {
		f.line("%s", f.dim(fmt.Sprintf("and %s", present.Plural(rows-maxParts, "more part"))))
	}
	f.line("")
}

func shortened(s string, most int) string { return text.Snip(s, most, "…") }

// part writes one part of a trip: the verdict, then the way.
func (f trail) part(t *follow.Trip, p *follow.Part) {
	sum, ok := follow.Verdict(t, p, f.estate.Place)
	style := []text.Color{text.FgRed}
	if ok {
		style = []text.Color{text.FgGreen}
	}
	for _, l := range strings.Split(wrap(sum, f.look.Width), "\n") {
		f.line("%s", f.paint(strings.TrimRight(l, " "), style...))
	}
	f.block(2, "for", p.Came.Free(packet.State, packet.Direction, packet.Mark, packet.ConnMark, packet.PeerIn).String())
	f.block(2, "as", p.First.String())
	f.way(t, p)
}

// way writes the steps of a part, those behind the tunnel, and those of the answer.
// It is long as a way is: a case a thing that may happen on it.
func (f trail) way(t *follow.Trip, p *follow.Part) {
	from := ""
	switch {
	case t.Own:
		from = "of its own"
	case t.In != "":
		from = "in on " + t.In
	}
	f.gateway(t.Gateway.Name, from)
	for _, o := range t.Arrival {
		f.aside(o, "ESP in")
	}
	f.steps(p.Outcome)
	for _, o := range p.Outer {
		f.aside(o, "ESP out")
	}
	if p.Fate == walk.Clear {
		f.step(
			"leaves",
			strings.TrimSpace(map[bool]string{true: "", false: "in the clear"}[t.Out != nil]+follow.By(p.Out)+via(p.Outcome)+p.Became()),
			source.Pos{},
		)
	}
	if p.Fate == walk.Delivered {
		f.step("ends", "delivered to the gateway itself", source.Pos{})
	}
	for _, why := range p.Doubts.Told() {
		f.block(4, "but", "not certain: "+why)
	}
	if c := p.Crossing; c != nil {
		for _, n := range c.Notes {
			f.block(4, "but", n)
		}
		if c.Where != nil {
			f.block(4, "lost", c.Lost)
			f.steps(*c.Where)
		} else if c.Lost != "" {
			f.block(4, "lost", c.Lost)
		}
		if c.Trip != nil {
			for i, q := range c.Trip.Parts {
				if len(c.Trip.Parts) > 1 {
					if i == maxParts {
						f.line("  and %s", present.Plural(len(c.Trip.Parts)-i, "more part"))
						break
					}
					s, _ := follow.Verdict(c.Trip, q, f.estate.Place)
					f.line("")
					f.block(2, "part", s)
					f.block(2, "as", q.First.String())
				}
				f.way(c.Trip, q)
			}
		}
	}
	for _, l := range p.Answer {
		f.gateway(l.Gateway.Name, "on the way back")
		for _, o := range l.Parts {
			f.steps(o)
			if o.Fate == walk.Clear {
				f.step("leaves", strings.TrimSpace(follow.By(o.Out)+via(o)), source.Pos{})
			}
		}
	}
	if p.Stray != "" {
		f.block(4, "but", p.Stray)
	}
}

func (f trail) gateway(name, what string) {
	f.line("")
	f.line("  %s %s", f.bold(name), f.dim(what))
}

func (f trail) steps(o walk.Outcome) {
	for _, s := range o.Steps {
		what := s.What
		if s.Chain != nil {
			what += " in chain " + s.Chain.Name
		}
		f.step(s.Stage, what, s.Line())
	}
}

// aside writes what became of ESP packets, in one step.
func (f trail) aside(o walk.Outcome, stage string) {
	at := source.Pos{}
	for _, s := range o.Steps {
		if p := s.Line(); !p.IsZero() {
			at = p
		}
	}
	what := ""
	if w, ok := o.Now.Witness(); ok {
		what = w.String() + ": "
	}
	switch {
	case o.Fate == walk.Clear:
		what += "leaves" + follow.By(o.Out)
	case o.Fate == walk.Delivered:
		what += "allowed"
	default:
		what += o.String()
	}
	f.step(stage, what, at)
}

// step writes one step: its stage, what was done, and below it where that stands, with the statement.
func (f trail) step(stage, what string, at source.Pos) {
	const stages = 12
	f.line("    %s%s", f.dim(fmt.Sprintf("%-*s", stages, stage)), what)
	f.place(4+stages, f.estate, at)
}

func via(o walk.Outcome) string {
	if !o.Via.IsValid() {
		return ""
	}
	return ", next hop " + o.Via.String()
}
