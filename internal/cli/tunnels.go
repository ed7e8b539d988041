package cli

import (
	"github.com/spf13/cobra"

	"toril/model/settings"
	"toril/report"
	"toril/tunnels"
)

func (a *app) tunnels() *cobra.Command {
	var form *formFlag
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
			e, err := a.whole(cmd, args)
			if err != nil {
				return err
			}
			err = as.Tunnels(a.out, e, tunnels.Of(e, settings.All()), report.Options{Look: a.look})
			if err == nil && len(e.Problems) > 0 {
				err = exit(exitFindings)
			}
			return err
		},
	}
	form = addForm(cmd, "", func(f report.Form) bool { return f.Tunnels != nil })
	return a.input(cmd)
}
