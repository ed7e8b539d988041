package cli

import (
	"github.com/spf13/cobra"

	"toril/baseline"
	"toril/report"
	"toril/report/text"
)

func (a *app) baseline() *cobra.Command {
	can := func(f report.Form) bool { return f.Baselines != nil }
	cmd := &cobra.Command{
		Use:   "baseline",
		Short: "Show what is required, and by which document",
		Long: "A baseline is a set of requirements, each with the document and section that says so. Where list and show take a\n" +
			"name, a file with a baseline of your own does as well (docs/baselines.md).",
	}
	table := func(form *formFlag, names []string) error {
		as, err := form.form()
		if err != nil {
			return err
		}
		var bs []*baseline.Baseline
		for _, n := range names {
			b, err := pickBaseline(n)
			if err != nil {
				return err
			}
			bs = append(bs, b)
		}
		return as.Baselines(a.out, bs, report.Options{Look: a.look})
	}
	show := &cobra.Command{
		Use:     "show NAME",
		Short:   "Show one baseline: every requirement with its source",
		Example: "  toril baseline show nist",
		Args:    exactly("NAME"),
	}
	compare := &cobra.Command{
		Use:     "compare NAME NAME...",
		Short:   "Show baselines side by side",
		Example: "  toril baseline compare nist bsi",
		Args:    atLeast("NAME", "another NAME"),
	}
	list := &cobra.Command{Use: "list", Example: "  toril baseline list", Short: "List the baselines that are built in", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			bs, err := embedded()
			if err != nil {
				return err
			}
			return text.BaselineList(a.out, bs, a.look)
		}}
	for _, c := range []*cobra.Command{show, compare} {
		form := addForm(c, "", can)
		c.RunE = func(_ *cobra.Command, args []string) error { return table(form, args) }
	}
	cmd.AddCommand(list, show, compare)
	return cmd
}
