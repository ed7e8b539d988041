package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"toril/mirror"
	"toril/pair"
)

func (a *app) mirror() *cobra.Command {
	var write string
	cmd := &cobra.Command{
		Use:   "mirror GATEWAY/CONNECTION PATH...",
		Short: "Write a configuration for the far end of a connection, which agrees with this one",
		Long: "Writes a configuration for the far end that agrees with this one; what is to be settled stands in its comments.\n" +
			"Pre-shared keys are no part of it. What a partner must know beside it is on the sheet (toril sheet).\n" +
			"Without a PATH the current folder is the estate.",
		Example: "  toril mirror lampwright/buoyyard estate/\n  toril mirror lampwright/buoyyard estate/ --write swanctl",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 { // the current folder
				return nil
			}
			return paths("GATEWAY/CONNECTION")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			writer := mirror.Writers[write]
			if writer == nil {
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
			text, err := writer(mirror.Of(t, end))
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(a.out, text)
			return err
		},
	}
	cmd.Flags().StringVar(&write, "write", "swanctl", "format of the configuration: swanctl")
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
