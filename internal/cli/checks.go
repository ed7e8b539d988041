package cli

import (
	"github.com/spf13/cobra"

	"toril/audit/suite"
	"toril/baseline"
	"toril/report"
)

// embedded returns the baselines that are built in.
func embedded() ([]*baseline.Baseline, error) {
	var out []*baseline.Baseline
	for _, name := range baseline.Names() {
		b, err := baseline.Named(name)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}

func (a *app) checks() *cobra.Command {
	var form string
	cmd := &cobra.Command{
		Use:   "checks",
		Short: "List every check: name, usual severity, title, and which baselines set it",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := format(form, "text", "json"); err != nil {
				return err
			}
			bs, err := embedded()
			if err != nil {
				return err
			}
			if form == "json" {
				return report.ChecksJSON(a.out, suite.All(), bs)
			}
			return report.ChecksText(a.out, suite.All(), bs, a.look)
		},
	}
	cmd.Flags().StringVar(&form, "format", "text", "text or json")
	return cmd
}

func (a *app) explain() *cobra.Command {
	return &cobra.Command{
		Use:     "explain CHECK",
		Short:   "Show the whole documentation of a check",
		Example: "  toril explain pfs/absent",
		Args:    exactly("CHECK"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return checkNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			bs, err := embedded()
			if err != nil {
				return err
			}
			for _, c := range suite.All() {
				if c.Name == args[0] {
					return report.Explain(a.out, c, bs, a.look)
				}
			}
			return missing("check", args[0], checkNames())
		},
	}
}

func checkNames() []string {
	var out []string
	for _, c := range suite.All() {
		out = append(out, c.Name)
	}
	return out
}
