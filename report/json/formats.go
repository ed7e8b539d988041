package json

import (
	"io"

	"toril/read"
	"toril/report"
)

type formatJSON struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	Software string   `json:"software"`
	Names    []string `json:"names"`
}

// savedFormats lists the saved formats for programs.
func savedFormats(w io.Writer, formats []*read.Format, _ report.Options) error {
	out := []formatJSON{}
	for _, f := range formats {
		out = append(out, formatJSON{f.Name, f.Title, f.Software, append([]string{}, f.Hints...)})
	}
	return encode(w, out)
}
