package text

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/audit"
	"toril/pair"
	"toril/report"
	"toril/source"
)

// paper is what text reports are written on: it wraps, indents and, where allowed, colours. The first error sticks.
type paper struct {
	w    io.Writer
	look report.Look
	err  error
}

func newPaper(w io.Writer, look report.Look) *paper {
	if look.Width <= 0 {
		look.Width = 100
	}
	look.Width = max(look.Width, 60)
	return &paper{w: w, look: look}
}

func (p *paper) line(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintf(p.w, format+"\n", args...)
	}
}

// wrapped writes a text over as many lines as it takes; those behind the first are indented.
func (p *paper) wrapped(format string, args ...any) {
	const indent = 2
	for i, l := range strings.Split(wrap(fmt.Sprintf(format, args...), p.look.Width-indent), "\n") {
		p.line("%s%s", strings.Repeat(" ", min(i, 1)*indent), strings.TrimRight(l, " "))
	}
}

// wrap lays a text into lines of a width. A word that would fill more than eight lines is cut: "…" stands for the rest.
func wrap(s string, width int) string {
	if len(s) <= width && !strings.ContainsAny(s, "\n\t") {
		return s
	}
	if len(s) > 8*width {
		words := strings.Split(s, " ")
		for i, w := range words {
			if r := []rune(w); len(w) > 8*width && len(r) > 8*width {
				words[i] = string(r[:8*width]) + "…"
			}
		}
		s = strings.Join(words, " ")
	}
	return text.WrapSoft(s, width)
}

// paint colours a text where colour is allowed.
func (p *paper) paint(s string, cs ...text.Color) string {
	if !p.look.Color || s == "" || len(cs) == 0 {
		return s
	}
	return text.Colors(cs).EscapeSeq() + s + text.Reset.EscapeSeq()
}

func (p *paper) bold(s string) string { return p.paint(s, text.Bold) }

// dim is grey, which is dimmer than the text on light grounds and on dark ones.
func (p *paper) dim(s string) string { return p.paint(s, text.FgHiBlack) }

var severityColors = map[audit.Severity][]text.Color{
	audit.Critical: {text.Bold, text.FgHiRed},
	audit.High:     {text.FgRed},
	audit.Medium:   {text.FgYellow},
	audit.Low:      {text.FgCyan},
}

func (p *paper) severity(s audit.Severity) string { return p.paint(s.String(), severityColors[s]...) }

// block writes a text with a label at its left, wrapped and indented: the label stands in the first line only.
func (p *paper) block(indent int, label, body string, style ...text.Color) {
	const labels = 6
	width := p.look.Width - indent - labels
	for i, l := range strings.Split(wrap(body, width), "\n") {
		head := ""
		if i == 0 {
			head = label
		}
		p.line(
			"%s%s%s",
			strings.Repeat(" ", indent),
			p.dim(fmt.Sprintf("%-*s", labels, head)),
			p.paint(strings.TrimRight(l, " "), style...),
		)
	}
}

// para writes a text wrapped and indented.
func (p *paper) para(indent int, body string) {
	for _, l := range strings.Split(wrap(body, p.look.Width-indent), "\n") {
		p.line("%s%s", strings.Repeat(" ", indent), strings.TrimRight(l, " "))
	}
}

// place writes where a statement stands, and the statement behind it, or below it where there is no room.
func (p *paper) place(indent int, e *pair.Whole, at source.Pos) {
	if at.IsZero() {
		return
	}
	where, quote := e.Place(at), strings.TrimSpace(e.Quote(at))
	room := p.look.Width - indent - 2 - text.StringWidthWithoutEscSequences(where)
	pad := strings.Repeat(" ", indent)
	switch wide := text.StringWidthWithoutEscSequences(quote); {
	case quote == "":
		p.line("%s%s", pad, where)
	case wide <= room:
		p.line("%s%s  %s", pad, where, p.dim(quote))
	default:
		p.line("%s%s", pad, where)
		p.line("%s  %s", pad, p.dim(text.Snip(quote, p.look.Width-indent-2, "…")))
	}
}

// table writes a table without blanks at the ends of its lines.
func (p *paper) table(tw table.Writer) {
	for l := range strings.SplitSeq(tw.Render(), "\n") {
		p.line("%s", strings.TrimRight(l, " "))
	}
}

func (p *paper) heading(s string) {
	rule := strings.Repeat("─", max(3, p.look.Width-text.StringWidthWithoutEscSequences(s)-1))
	p.line("%s %s", p.bold(s), p.dim(rule))
}
