package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"toril/report"
	"toril/report/forms"
)

// formFlag is --format: one of the forms that can write a command's results.
type formFlag struct {
	name string
	can  func(report.Form) bool
}

// addForm adds the flag; about is what its help says beside the names.
func addForm(cmd *cobra.Command, about string, can func(report.Form) bool) *formFlag {
	f := &formFlag{can: can}
	known := forms.Can(can)
	cmd.Flags().StringVar(&f.name, "format", known[0], strings.Join(known, " or ")+about)
	return f
}

func (f *formFlag) form() (report.Form, error) { return forms.Named(f.name, f.can) }
