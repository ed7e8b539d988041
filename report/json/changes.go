package json

import (
	"io"

	"toril/changes"
	"toril/report"
)

// ChangesSchema names the contract of the JSON form of changes.
const ChangesSchema = "toril-changes/1"

type changeJSON struct {
	Subject string `json:"subject"`
	What    string `json:"what"`
	Old     string `json:"old"`
	New     string `json:"new"`
	Says    string `json:"says"`
	At      string `json:"at"`
	Unsure  string `json:"unsure"`
}

type comparedJSON struct {
	ID       string `json:"id"`
	Check    string `json:"check"`
	Severity string `json:"severity"`
	Subject  string `json:"subject"`
	Message  string `json:"message"`
	At       string `json:"at"`
	PartOf   string `json:"part_of"`
	Accepted bool   `json:"accepted"`
	Possible bool   `json:"possible"`
}

// differences writes what has changed in the form that docs/json.md describes.
func differences(w io.Writer, d *changes.Diff, _ report.Options) error {
	list := func(in []changes.Finding) []comparedJSON {
		out := []comparedJSON{}
		for _, f := range in {
			out = append(out, comparedJSON{f.ID, f.Check, f.Severity, f.Subject, f.Message, f.Place, f.PartOf, f.Accepted, f.Possible})
		}
		return out
	}
	changed := func(in []changes.Change) []changeJSON {
		out := []changeJSON{}
		for _, c := range in {
			out = append(out, changeJSON{c.Subject, c.What, c.Old, c.New, c.Says, c.At, c.Unsure})
		}
		return out
	}
	return encode(w, struct {
		Schema   string         `json:"schema"`
		Old      string         `json:"old"`
		New      string         `json:"new"`
		Compared bool           `json:"meanings_compared"`
		Tunnels  []changeJSON   `json:"tunnels"`
		Meaning  []changeJSON   `json:"changes"`
		Added    []comparedJSON `json:"findings_new"`
		Gone     []comparedJSON `json:"findings_gone"`
		Still    []comparedJSON `json:"findings_still"`
	}{ChangesSchema, d.Old, d.New, d.Compared, changed(d.Tunnels), changed(d.Meaning), list(d.Added), list(d.Gone), list(d.Still)})
}
