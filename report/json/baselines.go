package json

import (
	"fmt"
	"io"

	"toril/baseline"
	"toril/report"
)

type rowJSON struct {
	Subject string            `json:"subject"`
	Says    map[string]string `json:"says"`
	Sources map[string]string `json:"sources"`
}

// baselines writes what baselines say for programs.
func baselines(w io.Writer, bs []*baseline.Baseline, _ report.Options) error {
	out := []rowJSON{}
	for _, r := range baseline.Compare(bs...) {
		j := rowJSON{Subject: r.Subject, Says: map[string]string{}, Sources: map[string]string{}}
		for i, c := range r.Cells {
			j.Says[bs[i].Name] = c.Text
			if c.Source.Document != "" {
				j.Sources[bs[i].Name] = fmt.Sprint(c.Source)
			}
		}
		out = append(out, j)
	}
	return encode(w, out)
}
