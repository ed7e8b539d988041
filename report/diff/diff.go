// Package diff writes fixes as one patch: the unified diffs in their order, each behind a line that says what it is for.
package diff

import (
	"fmt"
	"io"

	"toril/fix"
	"toril/report"
)

// Form is the patch; patch(1) and git apply take it.
var Form = report.Form{Name: "diff", Endings: []string{".diff", ".patch"}, Fixes: fixes}

func fixes(w io.Writer, all []*fix.Fix, _ report.Options) error {
	for _, f := range all {
		for _, p := range f.Files {
			head := fmt.Sprintf("%s %s %s: %s", f.Finding.Check, f.Finding.Subject(), f.Finding.ID, f.Says)
			if _, err := fmt.Fprintf(w, "%s\n%s", head, p.Diff); err != nil {
				return err
			}
		}
	}
	return nil
}
