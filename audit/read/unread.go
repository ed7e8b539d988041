package read

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// shown is how many lines of a file a finding names; the report's list of files has them all.
const shown = 5

// Unread reports every file in which statements were not understood.
var Unread = &audit.Check{
	Name:     "read/unread",
	Title:    "Statements that were not understood",
	Severity: audit.Info,
	Why:      "Their effect is not known; findings that depend on them say so.",
	Fix:      "Correct them if they are mistakes; otherwise check these lines by hand.",
	Doc: audit.Doc{
		What: "Every reader keeps what it does not understand, with the line. Nothing unread counts as not configured.",
		Harm: "A misspelt option is ignored or refused by the daemon, and its default holds in its place. An option that is new, " +
			"or of another version, may change everything around it.",
		Write:   "toril formats --explain FILE says what a file was taken for; docs/formats.md lists what is read of every format.",
		Sources: []string{"docs/formats.md"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, f := range g.Files {
			if len(f.Unread) == 0 {
				continue
			}
			first := f.Unread[0]
			out := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: first.At, Note: first.Why}}
			out.Message = fmt.Sprintf("a statement of this file was not understood: %s", first.Why)
			if n := len(f.Unread); n > 1 {
				out.Message = fmt.Sprintf("%d statements of this file were not understood; the first: %s", n, first.Why)
			}
			for _, u := range f.Unread[1:min(len(f.Unread), shown)] {
				out.Also = append(out.Also, audit.Evidence{Pos: u.At, Note: u.Why})
			}
			p.Report(out)
		}
	},
}
