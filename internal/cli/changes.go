package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/changes"
	"toril/internal/disk"
	"toril/model/settings"
	"toril/report"
)

// maxReport is the size in bytes beyond which a report is not read.
const maxReport = 1 << 30

// changes: it is long as a command is: its help, its flags, and what it does one after the other.
func (a *app) changes() *cobra.Command {
	var out *outputs
	var base, failOn, least string
	cmd := &cobra.Command{
		Use:   "changes OLD NEW",
		Short: "Say what has changed between two estates, in meaning, and which findings are new, gone or still there",
		Long: "Compares two estates (folders, archives or files), or two reports of audit --format json. Of estates it says what\n" +
			"means something else now: settings, keys, which packets the filters allow and translate (as exact sets), addresses,\n" +
			"routes, what becomes of tunnels; what is only written otherwise is no change. Of reports it compares findings and\n" +
			"tunnels.\n\n" +
			"Exit code: 0 compared, 1 --fail-on says so or a file could not be read, 2 wrong usage.",
		Example: "  toril audit estate/ -o last.json\n" +
			"  toril changes last.json estate/ --fail-on new --at-least high\n  toril changes estate/ estate/",
		Args: exactly("OLD", "NEW"),
		RunE: func(cmd *cobra.Command, args []string) error {
			plan, err := out.plan(cmd)
			if err != nil {
				return err
			}
			min, err := severityFlag(least)
			if err != nil {
				return err
			}
			if failOn != "nothing" && failOn != "new" && failOn != "any" {
				return missing("condition for --fail-on", failOn, []string{"nothing", "new", "any"})
			}
			var sides [2]*changes.Side
			problems := 0
			for i, path := range args {
				var n int
				if sides[i], n, err = a.side(cmd, path, base); err != nil {
					return err
				}
				problems += n
			}
			d := changes.Compare(sides[0], sides[1], settings.All())
			err = a.write(cmd.Context(), plan, report.Options{Look: a.look, Least: min},
				func(f report.Form, w io.Writer, o report.Options) error { return f.Changes(w, d, o) })
			if err != nil {
				return err
			}
			if problems > 0 || failOn != "nothing" && d.Adds(int(min)) || failOn == "any" && d.Any() {
				return exit(exitFindings)
			}
			return nil
		},
	}
	out = addOutputs(cmd, func(f report.Form) bool { return f.Changes != nil })
	flags := cmd.Flags()
	flags.StringVar(
		&failOn,
		"fail-on",
		"nothing",
		"what makes the exit code 1: new (findings at or above --at-least), any (change), or nothing",
	)
	flags.StringVar(&least, "at-least", "low", "lowest severity of the findings that are shown: info, low, medium, high, critical")
	flags.StringVar(&base, "baseline", "sound", "name of a baseline, or a file with one")
	a.dated(cmd)
	return a.withBooks(cmd)
}

// side reads one of the two that are compared: a report, or an estate, which is audited. It returns how many files could not be read.
func (a *app) side(cmd *cobra.Command, path, base string) (*changes.Side, int, error) {
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && strings.HasSuffix(path, ".json") {
		data, err := disk.ReadFile(path, maxReport)
		if err != nil {
			return nil, 0, fmt.Errorf("%s cannot be read: %w", path, err)
		}
		if head := data[:min(len(data), 200)]; bytes.Contains(head, []byte(`"toril-`)) {
			s, err := changes.Report(path, data)
			return s, 0, err
		}
	}
	b, err := pickBaseline(base)
	if err != nil {
		return nil, 0, err
	}
	now, err := a.today()
	if err != nil {
		return nil, 0, err
	}
	e, err := a.whole(cmd, []string{path})
	if err != nil {
		return nil, 0, err
	}
	r, err := audit.Run(cmd.Context(), e.Estate, suite.All(), b, now)
	if err != nil {
		return nil, 0, err
	}
	return changes.Of(path, r, e), len(e.Problems), nil
}
