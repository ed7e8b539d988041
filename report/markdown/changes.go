package markdown

import (
	"io"

	"toril/changes"
	"toril/present"
	"toril/report"
)

// differences writes what has changed, for a ticket.
func differences(w io.Writer, d *changes.Diff, o report.Options) error {
	p := &paper{w: w}
	p.line("# %s → %s", inert(d.Old), inert(d.New))
	p.line("")
	p.line("%s, %d gone, %d still there.", present.Plural(len(d.Added), "new finding"), len(d.Gone), len(d.Still))
	for _, part := range []struct {
		title string
		list  []changes.Change
	}{{"Tunnels", d.Tunnels}, {"Changes in meaning", d.Meaning}} {
		if len(part.list) == 0 {
			continue
		}
		p.line("")
		p.line("## %s", part.title)
		p.line("")
		for _, c := range part.list {
			out := "- **" + inert(c.Subject) + "** " + inert(c.Says)
			if c.At != "" {
				out += " (" + code(c.At) + ")"
			}
			p.line("%s", out)
		}
	}
	for _, part := range []struct {
		title string
		list  []changes.Finding
	}{{"New findings", d.Added}, {"Findings that are gone", d.Gone}} {
		titled := false
		for _, f := range part.list {
			if f.Rank() < int(o.Least) {
				continue
			}
			if !titled {
				p.line("")
				p.line("## %s", part.title)
				p.line("")
				titled = true
			}
			p.line("- %s %s %s: %s (%s)", f.Severity, f.Check, inert(f.Subject), inert(f.Message), code(f.Place))
		}
	}
	if !d.Any() {
		p.line("")
		p.line("Nothing has changed in meaning.")
	}
	return p.err
}
