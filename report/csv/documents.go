package csv

import (
	"encoding/csv"
	"io"

	"toril/present"
	"toril/report"
)

// documents writes sheets and their like as one table: a line a cell.
func documents(w io.Writer, _ string, all []present.Document, _ report.Options) error {
	out := csv.NewWriter(w)
	write := func(cells ...string) {
		for i := range cells {
			cells[i] = harmless(cells[i])
		}
		_ = out.Write(cells) // Flush and Error tell
	}
	write("subject", "table", "about", "key", "name", "column", "value")
	for _, d := range all {
		for _, p := range d.Parts {
			for _, r := range p.Rows {
				for i, c := range r.Cells {
					write(d.Subject, p.Name, p.About, r.Key, r.Name, p.Head[min(i+1, len(p.Head)-1)], c)
				}
			}
			for _, n := range p.Notes {
				write(d.Subject, p.Name, p.About, "note", "", "", n)
			}
		}
	}
	out.Flush()
	return out.Error()
}
