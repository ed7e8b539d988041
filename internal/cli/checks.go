package cli

import (
	"github.com/spf13/cobra"

	"toril/audit/suite"
	"toril/baseline"
	"toril/report"
	"toril/report/text"
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
	var form *formFlag
	cmd := &cobra.Command{
		Use:     "checks",
		Short:   "List every check: name, usual severity, title, and which baselines set it",
		Example: "  toril checks\n  toril checks --format json",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			bs, err := embedded()
			if err != nil {
				return err
			}
			return as.Checks(a.out, suite.All(), bs, report.Options{Look: a.look})
		},
	}
	form = addForm(cmd, "", func(f report.Form) bool { return f.Checks != nil })
	return cmd
}

func (a *app) explain() *cobra.Command {
	return &cobra.Command{
		Use:     "explain CHECK",
		Short:   "Show the whole documentation of a check",
		Example: "  toril explain pfs/absent",
		Args:    exactly("CHECK"),
		RunE: func(_ *cobra.Command, args []string) error {
			bs, err := embedded()
			if err != nil {
				return err
			}
			for _, c := range suite.All() {
				if c.Name == args[0] {
					return text.Explain(a.out, c, bs, a.look)
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
