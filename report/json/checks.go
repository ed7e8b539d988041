package json

import (
	"io"
	"strings"

	"toril/audit"
	"toril/baseline"
	"toril/report"
)

type checkJSON struct {
	Name      string         `json:"name"`
	Area      string         `json:"area"`
	Severity  audit.Severity `json:"severity"`
	Title     string         `json:"title"`
	Baselines []string       `json:"baselines"`
}

// checks lists checks for programs.
func checks(w io.Writer, checks []*audit.Check, bs []*baseline.Baseline, _ report.Options) error {
	out := []checkJSON{}
	for _, c := range checks {
		j := checkJSON{c.Name, c.Area(), c.Severity, c.Title, []string{}}
		switch s := report.SettingBaselines(c, bs); s {
		case "always":
		case "all":
			for _, b := range bs {
				j.Baselines = append(j.Baselines, b.Name)
			}
		default:
			j.Baselines = strings.Split(s, ", ")
		}
		out = append(out, j)
	}
	return encode(w, out)
}
