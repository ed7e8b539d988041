package cli

import (
	"time"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/model/settings"
	"toril/report"
	"toril/tunnels"
)

func (a *app) tunnels() *cobra.Command {
	var form *formFlag
	var base string
	cmd := &cobra.Command{
		Use:     "tunnels PATH...",
		Short:   "Show tunnel parameters, one column per end",
		Example: "  toril tunnels estate/",
		Args:    paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			b, err := pickBaseline(base)
			if err != nil {
				return err
			}
			e, err := a.whole(cmd, args)
			if err != nil {
				return err
			}
			views := tunnels.Of(e, settings.All())
			r, err := audit.Run(cmd.Context(), e.Estate, suite.All(), b, time.Now())
			if err != nil {
				return err
			}
			tunnels.Mark(views, r, suite.All(), settings.All())
			err = as.Tunnels(a.out, e, views, report.Options{Look: a.look})
			if err == nil && len(e.Problems) > 0 {
				err = exit(exitFindings)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&base, "baseline", baseline.Default, "name of a baseline, or a file with one, by which values are marked as weak")
	form = addForm(cmd, "", func(f report.Form) bool { return f.Tunnels != nil })
	return a.input(cmd)
}
