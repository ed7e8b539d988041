package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"toril/report"
)

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Example: "  toril version",
		Short:   "Print the version, the commit and its date",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprintln(a.out, versionText())
			return err
		},
	}
}

// versionText is what the program knows of its own making: the commit and its date where it was built from a checkout.
func versionText() string {
	out := "toril " + report.Version
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return out
	}
	setting := map[string]string{}
	for _, s := range info.Settings {
		setting[s.Key] = s.Value
	}
	if commit := setting["vcs.revision"]; commit != "" {
		out += ", commit " + commit[:min(len(commit), 12)]
		if setting["vcs.modified"] == "true" {
			out += " with changes"
		}
		out += " of " + setting["vcs.time"]
	}
	return out + ", " + runtime.Version()
}
