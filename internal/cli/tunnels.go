package cli

import (
	"context"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/model/settings"
	"toril/pair"
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
			e, err := a.load(cmd, args)
			if err != nil {
				return err
			}
			found, err := a.marks(cmd.Context(), e, b)
			if err != nil {
				return err
			}
			w, err := e.Whole(cmd.Context())
			if err != nil {
				return err
			}
			views := tunnels.Of(w, settings.All())
			tunnels.Mark(views, found, settings.All())
			err = as.Tunnels(a.out, w, views, report.Options{Look: a.look})
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

// marks audits an estate for what is wrong with values, before all of it is in memory.
func (a *app) marks(ctx context.Context, e *pair.Estate, b *baseline.Baseline) (tunnels.Marks, error) {
	now, err := a.today()
	if err != nil {
		return nil, err
	}
	checks := tunnels.Judges(suite.All())
	r, err := audit.Run(ctx, e, checks, b, now)
	if err != nil {
		return nil, err
	}
	return tunnels.MarksOf(r, checks), nil
}
