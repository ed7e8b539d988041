package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"toril/model/settings"
	"toril/negotiate"
	"toril/report"
)

func (a *app) ends() *cobra.Command {
	var form *formFlag
	var only bool
	cmd := &cobra.Command{
		Use:   "ends PATH...",
		Short: "Predict whether both ends of every tunnel agree, on what, and when it would fail",
		Long: "Shows both ends side by side, one row per setting, and predicts what happens when either end initiates:\n" +
			"the IKE SA, every child SA, and their rekeying. " +
			"Two files are two ends; a folder is an estate.\n\n" +
			"Exit code: 0 all that was compared agrees, 1 something differs or a file could not be read, 2 wrong usage.",
		Example: "  toril ends estate/\n  toril ends estate/skerry/swanctl.conf estate/headland/swanctl.conf --only-differences",
		Args:    paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			e, err := a.whole(cmd, args)
			if err != nil {
				return err
			}
			all := negotiate.Compare(e, settings.All())
			err = as.Ends(a.out, e, all, report.Options{Look: a.look, OnlyDifferences: only})
			if err == nil && (len(e.Problems) > 0 || slices.ContainsFunc(all, negotiate.Compared.Disagrees)) {
				err = exit(exitFindings)
			}
			return err
		},
	}
	form = addForm(cmd, "", func(f report.Form) bool { return f.Ends != nil })
	cmd.Flags().BoolVar(&only, "only-differences", false, "leave out the settings that match")
	return a.input(cmd)
}
