package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"toril/daemon"
	"toril/daemon/known"
	"toril/internal/strictyaml"
	"toril/report"
)

func (a *app) defaults() *cobra.Command {
	var form *formFlag
	cmd := &cobra.Command{
		Use:   "defaults [DAEMON [VERSION]]",
		Short: "Show what IKE daemons do where their configuration does not say",
		Long: "What an IKE daemon does where its configuration does not say is audited as if it were written. Without an " +
			"argument, the daemons are\nlisted; with one, every default of its newest known version, each with its source; with two, " +
			"those of that version.",
		Example: "  toril defaults\n  toril defaults libreswan\n  toril defaults strongswan 5.9.8",
		Args:    cobra.MaximumNArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return as.Daemons(a.out, known.All(), report.Options{Look: a.look})
			}
			k, version, err := pickDaemon(args)
			if err != nil {
				return err
			}
			return as.Defaults(a.out, k, version, report.Options{Look: a.look})
		},
	}
	form = addForm(cmd, "", func(f report.Form) bool { return f.Defaults != nil })
	return cmd
}

// pickDaemon finds the daemon and the version that arguments name; "" for the newest.
func pickDaemon(args []string) (k *daemon.Known, version string, err error) {
	if k = daemon.Find(known.All(), args[0]); k == nil {
		var names []string
		for _, k := range known.All() {
			names = append(names, k.Daemon.Name)
		}
		return nil, "", fmt.Errorf("unknown daemon %q; %s", args[0], strictyaml.Suggest(args[0], names))
	}
	if len(args) == 1 {
		return k, "", nil
	}
	if !daemon.IsVersion(args[1]) {
		return nil, "", fmt.Errorf("%q is not a version; known of %s are %s", args[1], k.Daemon.Name, strings.Join(k.Versions, ", "))
	}
	return k, args[1], nil
}
