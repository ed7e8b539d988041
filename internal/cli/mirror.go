package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"toril/mirror"
	"toril/model/settings"
	"toril/pair"
	"toril/report"
)

func (a *app) mirror() *cobra.Command {
	var form *formFlag
	var write string
	cmd := &cobra.Command{
		Use:   "mirror GATEWAY/CONNECTION PATH...",
		Short: "Write what the far end of a connection must configure, to hand over",
		Long: "Writes a sheet in Markdown or JSON, or with --write a configuration for the far end that agrees with this one.\n" +
			"Pre-shared keys are no part of it. Without a PATH the current folder is the estate.",
		Example: "  toril mirror lampwright/buoyyard estate/\n  toril mirror lampwright/buoyyard estate/ --write swanctl",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 { // the current folder
				return nil
			}
			return paths("GATEWAY/CONNECTION")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			if write != "" && cmd.Flags().Changed("format") {
				return fmt.Errorf(
					"--write %s and --format %s contradict each other: one writes a configuration, the other a sheet",
					write,
					form.name,
				)
			}
			writer := mirror.Writers[write]
			if write != "" && writer == nil {
				return fmt.Errorf("toril cannot write %q; it can write: %v", write, slices.Sorted(maps.Keys(mirror.Writers)))
			}
			paths := args[1:]
			if len(paths) == 0 {
				paths = []string{"."}
			}
			e, err := a.whole(cmd, paths)
			if err != nil {
				return err
			}
			t, end, err := find(e, args[0])
			if err != nil {
				return err
			}
			if writer != nil {
				text, err := writer(mirror.Of(t, end))
				if err != nil {
					return err
				}
				_, err = fmt.Fprint(a.out, text)
				return err
			}
			return as.Mirror(a.out, mirror.Of(t, end), settings.All())
		},
	}
	form = addForm(cmd, "", func(f report.Form) bool { return f.Mirror != nil })
	cmd.Flags().StringVar(&write, "write", "", "write a configuration instead: swanctl")
	return a.input(cmd)
}

// find returns the tunnel and the end of a name "gateway/connection".
func find(e *pair.Whole, name string) (*pair.Tunnel, pair.End, error) {
	var known []string
	for _, t := range e.Tunnels {
		for _, end := range t.Ends {
			if end.Name() == name {
				return t, end, nil
			}
			known = append(known, end.Name())
		}
	}
	return nil, pair.End{}, missing("connection", name, known)
}
