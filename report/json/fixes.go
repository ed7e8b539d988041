package json

import (
	"io"

	"toril/fix"
	"toril/report"
)

// FixSchema names the contract of the JSON form of fix.
const FixSchema = "toril-fix/1"

type patchJSON struct {
	Gateway string `json:"gateway"`
	File    string `json:"file"`
	Diff    string `json:"diff"` // unified
}

type fixJSON struct {
	ID       string      `json:"id"` // of the finding, as in the JSON form of audit
	Check    string      `json:"check"`
	Severity string      `json:"severity"`
	Subject  string      `json:"subject"`
	Message  string      `json:"message"`
	Fixed    bool        `json:"fixed"`
	Why      string      `json:"why_not"` // "" where it is fixed
	Says     string      `json:"does"`
	Patches  []patchJSON `json:"patches"`
	Gone     []string    `json:"also_gone"` // IDs of findings
	Tunnel   string      `json:"tunnel"`
	Before   string      `json:"tunnel_before"`
	After    string      `json:"tunnel_after"`
	Order    string      `json:"order"`
}

// fixes writes what becomes of each finding for programs.
func fixes(w io.Writer, all []*fix.Fix, _ report.Options) error {
	out := []fixJSON{}
	for _, f := range all {
		one := fixJSON{
			ID: f.Finding.ID, Check: f.Finding.Check, Severity: f.Finding.Severity.String(), Subject: f.Finding.Subject(),
			Message: f.Finding.Message, Fixed: f.Why == "", Why: f.Why, Says: f.Says, Patches: []patchJSON{}, Gone: []string{},
			Tunnel: f.Tunnel, Before: f.Before, After: f.After, Order: f.Order,
		}
		for _, p := range f.Files {
			one.Patches = append(one.Patches, patchJSON{p.Gateway, p.File, p.Diff})
		}
		for i := range f.Gone {
			one.Gone = append(one.Gone, f.Gone[i].ID)
		}
		out = append(out, one)
	}
	return encode(w, struct {
		Schema string    `json:"schema"`
		Fixes  []fixJSON `json:"fixes"`
	}{FixSchema, out})
}
