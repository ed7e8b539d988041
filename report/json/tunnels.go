package json

import (
	"io"

	"toril/pair"
	"toril/report"
	"toril/source"
	"toril/tunnels"
)

// TunnelsSchema names the contract of the JSON form of tunnels.
const TunnelsSchema = "toril-tunnels/1"

// cellJSON is one end's value of a setting.
type cellJSON struct {
	Value   string `json:"value"`
	Default bool   `json:"default"` // nobody said it
	File    string `json:"file"`
	Line    int    `json:"line"`
	Found   string `json:"finding"` // the worst that is wrong with it: its ID; "" for nothing
}

type lineJSON struct {
	Setting string     `json:"setting"` // its name in docs/settings.md
	Name    string     `json:"name"`
	Child   string     `json:"child"` // the child that it belongs to; "" for the connection
	Cells   []cellJSON `json:"cells"`
	Differs bool       `json:"differs"`
}

type viewJSON struct {
	Name string     `json:"name"`
	Ends []endJSON  `json:"ends"`
	Rows []lineJSON `json:"rows"`
}

// views writes the views for programs.
func views(w io.Writer, e *pair.Whole, views []tunnels.View, _ report.Options) error {
	out := []viewJSON{}
	for _, v := range views {
		one := viewJSON{Name: v.Tunnel.Name, Rows: []lineJSON{}}
		for _, end := range v.Tunnel.Ends {
			one.Ends = append(one.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
		}
		for _, l := range v.Lines {
			line := lineJSON{Setting: l.Setting.Name, Name: l.Name, Child: l.Child, Differs: l.Differs}
			for _, c := range l.Cells {
				cell := cellJSON{Value: c.Text, Default: c.Default, File: c.At.File, Line: c.At.Line}
				if c.Found != nil {
					cell.Found = c.Found.ID
				}
				line.Cells = append(line.Cells, cell)
			}
			one.Rows = append(one.Rows, line)
		}
		out = append(out, one)
	}
	return encode(w, struct {
		Schema  string      `json:"schema"`
		Tunnels []viewJSON  `json:"tunnels"`
		Errors  []errorJSON `json:"errors"`
	}{TunnelsSchema, out, errorsJSON(e.Problems)})
}

func errorsJSON(problems []*source.Error) []errorJSON {
	out := []errorJSON{}
	for _, p := range problems {
		out = append(out, errorJSON{p.File, p.Line, p.Col, p.Message})
	}
	return out
}
