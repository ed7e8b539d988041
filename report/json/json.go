// Package json writes results for programs, each under a contract that docs/schema describes.
package json

import (
	"encoding/json"
	"io"

	"toril/audit"
	"toril/estate"
	"toril/report"
)

// Schema names the contract of the JSON output; docs/json.md describes it and docs/schema/ has it as a JSON Schema.
const Schema = "toril-audit/2"

type auditJSON struct {
	Schema   string         `json:"schema"`
	Tool     toolJSON       `json:"tool"`
	Baseline string         `json:"baseline"`
	Gateways []gatewayJSON  `json:"gateways"`
	Tunnels  []tunnelJSON   `json:"tunnels"`
	NotGiven []notGivenJSON `json:"not_given"`
	LeftOut  []leftOutJSON  `json:"left_out"`
	Findings []findingJSON  `json:"findings"`
	Errors   []errorJSON    `json:"errors"`
}

type notGivenJSON struct {
	Gateway     string   `json:"gateway"`
	Thing       string   `json:"thing"`
	Unjudged    string   `json:"not_judged"`
	Connections []string `json:"connections"`
}

type leftOutJSON struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

type toolJSON struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

type gatewayJSON struct {
	Name  string     `json:"name"`
	Files []fileJSON `json:"files"`
}

type fileJSON struct {
	Path       string       `json:"path"`
	Format     string       `json:"format"`
	Statements int          `json:"statements"`
	Unread     []unreadJSON `json:"unread"`
}

type unreadJSON struct {
	Line int    `json:"line"`
	Col  int    `json:"column,omitempty"`
	Text string `json:"text"`
	Why  string `json:"why"`
}

type tunnelJSON struct {
	Name   string    `json:"name"`
	Ends   []endJSON `json:"ends"`
	Reason string    `json:"reason"`
	Doubts []string  `json:"doubts"`
}

type endJSON struct {
	Gateway    string `json:"gateway"`
	Connection string `json:"connection"`
}

type findingJSON struct {
	ID         string         `json:"id"`
	Check      string         `json:"check"`
	Severity   audit.Severity `json:"severity"`
	Gateway    string         `json:"gateway"`
	Tunnel     string         `json:"tunnel"`
	Connection string         `json:"connection"`
	Child      string         `json:"child"`
	Message    string         `json:"message"`
	Measured   string         `json:"measured"`
	Required   string         `json:"required"`
	Example    string         `json:"example"`
	Why        string         `json:"why"`
	Fix        string         `json:"fix"`
	Standard   string         `json:"standard"`
	Unsure     string         `json:"unsure"`
	At         placeJSON      `json:"at"`
	Also       []placeJSON    `json:"also"`
	AlsoIn     []string       `json:"also_in"`
}

type placeJSON struct {
	File  string `json:"file"`
	Line  int    `json:"line"`
	Col   int    `json:"column,omitempty"`
	Start int    `json:"start"`
	End   int    `json:"end"`
	Text  string `json:"text"`
	Note  string `json:"note,omitempty"`
}

type errorJSON struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Col     int    `json:"column,omitempty"`
	Message string `json:"message"`
}

// Form is JSON.
var Form = report.Form{
	Name:      "json",
	Audit:     audits,
	Tunnels:   views,
	Ends:      ends,
	Follow:    trips,
	Mirror:    sheet,
	Checks:    checks,
	Baselines: baselines,
	Formats:   savedFormats,
	Daemons:   daemons,
	Defaults:  defaults,
}

// audits writes an audit in the form that docs/json.md describes.
func audits(w io.Writer, r *audit.Result, _ report.Options) error {
	out := auditJSON{
		Schema:   Schema,
		Tool:     toolJSON{"toril", report.Version},
		Baseline: r.Baseline.Name,
		Gateways: gatewaysJSON(r.Estate),
		Tunnels:  tunnelsJSON(r.Estate),
		NotGiven: []notGivenJSON{},
		LeftOut:  []leftOutJSON{},
		Findings: []findingJSON{},
		Errors:   errorsJSON(r.Estate),
	}
	for _, n := range r.NotGiven {
		for _, a := range n.What {
			out.NotGiven = append(out.NotGiven, notGivenJSON{n.Gateway, a.Thing, a.Unjudged, emptied(a.Of)})
		}
	}
	for _, l := range r.Estate.LeftOut {
		out.LeftOut = append(out.LeftOut, leftOutJSON(l))
	}
	for _, f := range r.Findings {
		j := findingJSON{
			ID:         f.ID,
			Check:      f.Check,
			Severity:   f.Severity,
			Gateway:    f.Gateway,
			Tunnel:     f.Tunnel,
			Connection: f.Connection,
			Child:      f.Child,
			Message:    f.Message,
			Measured:   f.Measured,
			Required:   f.Required,
			Example:    f.Example,
			Why:        f.Why,
			Fix:        f.Fix,
			Standard:   f.Standard,
			Unsure:     f.Unsure,
			At:         place(f.At),
			Also:       []placeJSON{},
			AlsoIn:     emptied(f.AlsoIn),
		}
		for _, e := range f.Also {
			j.Also = append(j.Also, place(e))
		}
		out.Findings = append(out.Findings, j)
	}
	return encode(w, out)
}

func encode(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func emptied(in []string) []string {
	if in == nil {
		return []string{}
	}
	return in
}

func place(e audit.Evidence) placeJSON {
	return placeJSON{e.File, e.Line, e.Col, e.Start, e.End, e.Text, e.Note}
}

func gatewaysJSON(e *estate.Estate) []gatewayJSON {
	out := []gatewayJSON{}
	for _, g := range e.Gateways {
		j := gatewayJSON{Name: g.Name, Files: []fileJSON{}}
		for _, f := range g.Files {
			file := fileJSON{Path: f.Path, Format: f.Format, Statements: f.Statements, Unread: []unreadJSON{}}
			for _, u := range f.Unread {
				file.Unread = append(file.Unread, unreadJSON{u.At.Line, u.At.Col, f.Quote(u.At), u.Why})
			}
			j.Files = append(j.Files, file)
		}
		out = append(out, j)
	}
	return out
}

func tunnelsJSON(e *estate.Estate) []tunnelJSON {
	out := []tunnelJSON{}
	for _, t := range e.Tunnels {
		j := tunnelJSON{Name: t.Name, Reason: t.Reason, Doubts: emptied(t.Doubts)}
		for _, end := range t.Ends {
			j.Ends = append(j.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
		}
		out = append(out, j)
	}
	return out
}
