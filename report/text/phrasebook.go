package text

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/present"
	"toril/read/phrasebook"
	"toril/report"
	"toril/source"
)

// BookTest says what the examples of a phrasebook showed.
func BookTest(w io.Writer, name string, b *phrasebook.Book, found []phrasebook.Difference, look report.Look) error {
	p := newPaper(w, look)
	for _, d := range found {
		p.wrapped("%s", source.Clean(d.String()))
	}
	switch {
	case len(found) > 0:
		p.line("%s: %s in %s of %s", source.Clean(name), present.Plural(len(found), "difference"),
			present.Plural(len(b.Examples), "example"), b.Language)
	case len(b.Examples) == 0:
		p.line("%s: %s has no examples, so nothing is shown", source.Clean(name), b.Language)
	default:
		p.line("%s: %s of %s read as they say", source.Clean(name), present.Plural(len(b.Examples), "example"), b.Language)
	}
	return p.err
}

// BookTry shows what a phrasebook makes of a file.
func BookTry(w io.Writer, b *phrasebook.Book, t *phrasebook.Tried, look report.Look) error {
	p := newPaper(w, look)
	count := 0
	for _, f := range t.Missed {
		count += f.Count
	}
	p.line("%s  %s", p.bold(source.Clean(t.File.Path)), p.dim(fmt.Sprintf("%s: %s read, %d not understood", b.Title,
		present.Plural(t.File.Statements, "statement"), count)))
	for _, s := range t.Sections {
		p.line("")
		p.line("%s", p.bold(source.Clean(s.Title)))
		tw := p.rows()
		for _, r := range s.Rows {
			at := p.dim("default")
			if r.Line > 0 {
				at = fmt.Sprintf("line %d", r.Line)
			}
			tw.AppendRow(table.Row{at, source.Clean(r.Name), source.Clean(r.Value)})
		}
		p.line("%s", tw.Render())
	}
	if len(t.Missed) > 0 {
		p.line("")
		p.line("%s  %s", p.bold("not understood"), p.dim("most consequential first"))
		tw := p.rows()
		for _, f := range t.Missed {
			text := f.Text
			if f.Like {
				text += "\n" + p.dim(source.Clean(f.Why))
			}
			tw.AppendRow(table.Row{fmt.Sprintf("line %d", f.Line), fmt.Sprintf("%d ×", f.Count), text})
		}
		p.line("%s", tw.Render())
	}
	for _, u := range t.Doubts {
		p.wrapped("line %d: %s", u.At.Line, source.Clean(u.Why))
	}
	for _, e := range t.Problems {
		p.wrapped("line %d: %s", e.Line, source.Clean(e.Message))
	}
	p.line("")
	return p.err
}

// rows begins a table of three columns: a line, a name, and a value that takes the room that is left.
func (p *paper) rows() table.Writer {
	const first, second = 10, 26
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	tw.SetColumnConfigs([]table.ColumnConfig{
		{Number: 1, WidthMin: first, WidthMax: 14, WidthMaxEnforcer: wrap},
		{Number: 2, WidthMin: second, WidthMax: second, WidthMaxEnforcer: wrap},
		{Number: 3, WidthMax: max(24, p.look.Width-first-second-9), WidthMaxEnforcer: wrap},
	})
	return tw
}

// BookShow shows a phrasebook as tables.
func BookShow(w io.Writer, b *phrasebook.Book, look report.Look) error {
	p := newPaper(w, look)
	p.line("%s  %s", p.bold(b.Language), b.Title)
	p.wrapped("syntax: %s", b.SyntaxWords())
	p.wrapped("order of work: %s", phrasebook.OrderWords(b.Order))
	if b.Begins != "" {
		p.line("files: one with a line that begins with %q", b.Begins)
	}
	p.line("")
	p.line("%s", p.bold("phrases"))
	for _, ph := range b.Phrases() {
		indent := strings.Repeat("  ", ph.Depth)
		p.line("%s%s  %s", indent, source.Clean(ph.Say), p.dim(source.Clean(ph.Means)))
	}
	if words := b.Words(); len(words) > 0 {
		p.line("")
		p.line("%s", p.bold("words"))
		tw := p.rows()
		for _, r := range words {
			tw.AppendRow(table.Row{"", r.Name, source.Clean(r.Value)})
		}
		p.line("%s", tw.Render())
	}
	if rows := b.Defaults(); len(rows) > 0 {
		p.line("")
		p.line("%s", p.bold("defaults"))
		tw := p.rows()
		for _, r := range rows {
			tw.AppendRow(table.Row{"", r.Name, source.Clean(r.Value)})
		}
		p.line("%s", tw.Render())
	}
	p.line("")
	p.line("%s", p.dim(present.Plural(len(b.Examples), "example")+"; toril phrasebook test runs them"))
	return p.err
}
