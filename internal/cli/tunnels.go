package cli

import (
	"github.com/spf13/cobra"

	"toril/model/settings"
	"toril/report"
	"toril/tunnels"
)

func (a *app) tunnels() *cobra.Command {
	var form string
	cmd := &cobra.Command{
		Use:     "tunnels PATH...",
		Short:   "Show tunnel parameters, one column per end",
		Example: "  toril tunnels estate/",
		Args:    paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := format(form, "text", "json"); err != nil {
				return err
			}
			e, err := a.load(cmd, args)
			if err != nil {
				return err
			}
			if form == "json" {
				err = report.TunnelsJSON(a.out, e, tunnels.Of(e, settings.All()))
			} else {
				err = report.TunnelsText(a.out, tunnels.Of(e, settings.All()), a.look)
			}
			if err == nil && len(e.Problems) > 0 {
				err = exit(exitFindings)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&form, "format", "text", "text or json")
	return a.input(cmd)
}
