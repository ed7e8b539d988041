package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"toril/export"
	"toril/source"
)

func (a *app) export() *cobra.Command {
	var as string
	var names, titles []string
	for _, w := range export.Writers() {
		names = append(names, w.Name)
		titles = append(titles, w.Name+" ("+w.Title+")")
	}
	cmd := &cobra.Command{
		Use:   "export GATEWAY PATH...",
		Short: "Write a gateway in an open format that other programs read, and Toril too",
		Long: "Writes what was read of a gateway as instance data of the IETF's YANG models: IPsec (RFC 9061), access lists\n" +
			"(RFC 8519), NAT (RFC 8512), interfaces (RFC 8343, RFC 8344), routes (RFC 8349). What they cannot say is listed on\n" +
			"standard error. Pre-shared keys are never written.",
		Example: "  toril export skerry estate --as yang > skerry.yang.json",
		Args:    paths("GATEWAY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			i := slices.Index(names, as)
			if i < 0 {
				return missing("form", as, names)
			}
			e, err := a.whole(cmd, args[1:])
			if err != nil {
				return err
			}
			g := e.Gateway(args[0])
			if g == nil {
				var known []string
				for _, g := range e.Gateways {
					known = append(known, g.Name)
				}
				return missing("gateway", args[0], known)
			}
			lacks, err := export.Writers()[i].Write(a.out, g)
			if err != nil {
				return err
			}
			for _, l := range lacks {
				fmt.Fprintf(a.err, "toril: not written: %s\n", source.Clean(l))
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&as, "as", names[0], "form: "+strings.Join(titles, ", "))
	return a.withBooks(cmd)
}
