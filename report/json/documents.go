package json

import (
	"io"

	"toril/present"
	"toril/report"
)

// SheetSchema and KeysSchema name the contracts of the JSON forms of sheet and keys.
const (
	SheetSchema = "toril-sheet/1"
	KeysSchema  = "toril-keys/1"
)

type tableRowJSON struct {
	Key   string   `json:"key"`
	Name  string   `json:"name"`
	Cells []string `json:"cells"` // below the columns
}

type tableJSON struct {
	Name    string         `json:"name"`
	Title   string         `json:"title"`
	About   string         `json:"about"`   // the child, say; "" for all
	Columns []string       `json:"columns"` // without that of the names
	Rows    []tableRowJSON `json:"rows"`
	Notes   []string       `json:"notes"`
}

type documentJSON struct {
	Subject string      `json:"subject"`
	Title   string      `json:"title"`
	Lead    []string    `json:"lead"`
	Tables  []tableJSON `json:"tables"`
}

// documents writes sheets and their like for programs.
func documents(w io.Writer, kind string, all []present.Document, _ report.Options) error {
	out := []documentJSON{}
	for _, d := range all {
		one := documentJSON{d.Subject, d.Title, emptied(d.Lead), []tableJSON{}}
		for _, p := range d.Parts {
			t := tableJSON{p.Name, p.Title, p.About, []string{}, []tableRowJSON{}, emptied(p.Notes)}
			if len(p.Head) > 0 {
				t.Columns = p.Head[1:]
			}
			for _, r := range p.Rows {
				t.Rows = append(t.Rows, tableRowJSON{r.Key, r.Name, emptied(r.Cells)})
			}
			one.Tables = append(one.Tables, t)
		}
		out = append(out, one)
	}
	schema := map[string]string{"sheet": SheetSchema, "keys": KeysSchema}[kind]
	return encode(w, struct {
		Schema    string         `json:"schema"`
		Documents []documentJSON `json:"documents"`
	}{schema, out})
}
