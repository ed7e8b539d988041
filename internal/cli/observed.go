package cli

import (
	"io"
	"slices"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/observe"
	"toril/report"
)

func (a *app) observed() *cobra.Command {
	var out *outputs
	var base, least string
	var all bool
	cmd := &cobra.Command{
		Use:   "observed PATH...",
		Short: "Show what saved status says of every tunnel, and where it differs from the configuration",
		Long: "Reads status that was saved beside the configurations: what swanctl, ipsec and whack list,\n" +
			"ip -s xfrm state and ip xfrm policy, ip -s link, conntrack -L, and logs of failed negotiations.\n" +
			"Shows which SAs were up, since when, protected by what and for which networks, and what they carried in each\n" +
			"direction; then what is wrong with that.\n\n" +
			"Exit code: 0 nothing is at or above low, 1 something is or a file could not be read, 2 wrong usage.",
		Example: "  toril observed estate/",
		Args:    paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			plan, err := out.plan(cmd)
			if err != nil {
				return err
			}
			b, err := pickBaseline(base)
			if err != nil {
				return err
			}
			shown, err := severityFlag(least)
			if err != nil {
				return err
			}
			now, err := a.today()
			if err != nil {
				return err
			}
			e, err := a.load(cmd, args)
			if err != nil {
				return err
			}
			checks := slices.DeleteFunc(suite.All(), func(c *audit.Check) bool { return c.Area() != "observed" })
			r, err := audit.Run(cmd.Context(), e, checks, b, now)
			if err != nil {
				return err
			}
			w, err := e.Whole(cmd.Context())
			if err != nil {
				return err
			}
			seen := &report.Observed{Result: r, Views: observe.Views(w), Loose: observe.LooseOf(w)}
			o := report.Options{Look: a.look, Least: shown, All: all}
			err = a.write(
				cmd.Context(),
				plan,
				o,
				func(f report.Form, to io.Writer, o report.Options) error { return f.Observed(to, seen, o) },
			)
			bad := slices.ContainsFunc(r.Findings, func(f *audit.Finding) bool { return f.Severity >= audit.Low && f.Accepted == nil })
			if err == nil && (bad || len(e.Problems) > 0) {
				err = exit(exitFindings)
			}
			return err
		},
	}
	out = addOutputs(cmd, func(f report.Form) bool { return f.Observed != nil })
	cmd.Flags().StringVar(&base, "baseline", baseline.Default, "name of a baseline, or a file with one")
	cmd.Flags().StringVar(&least, "at-least", "info", "lowest severity that the text shows: info, low, medium, high, critical")
	cmd.Flags().BoolVar(&all, "all", false, "show every finding whole, with why")
	return a.input(cmd)
}
