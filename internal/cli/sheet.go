package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/changes"
	"toril/keys"
	"toril/model/settings"
	"toril/pair"
	"toril/present"
	"toril/report"
	"toril/sheet"
)

func (a *app) sheet() *cobra.Command {
	var out *outputs
	var since string
	cmd := &cobra.Command{
		Use:   "sheet GATEWAY[/CONNECTION] PATH...",
		Short: "Write what a partner or a support desk asks for of a tunnel, to hand over",
		Long: "Writes a sheet per connection: software, addresses and interfaces of both ends, what protects IKE and the children,\n" +
			"lifetimes, networks, NAT, who initiates; what the far end sets, opens and routes; what fits into a packet; and three " +
			"tests with the\n" +
			"answers expected. No key is part of it. With --since, what changed since an older state of the estate. Without " +
			"a PATH the\n" +
			"current folder is the estate.",
		Example: "  toril sheet lampwright/buoyyard estate/\n  toril sheet headland estate/ -o headland.html",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 { // the current folder
				return nil
			}
			return paths("GATEWAY[/CONNECTION]")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			plan, err := out.plan(cmd)
			if err != nil {
				return err
			}
			from := args[1:]
			if len(from) == 0 {
				from = []string{"."}
			}
			e, err := a.load(cmd, from)
			if err != nil {
				return err
			}
			all, err := a.sheets(cmd, e, args[0], since)
			if err != nil {
				return err
			}
			o := report.Options{Look: a.look}
			return a.write(cmd.Context(), plan, o, func(f report.Form, w io.Writer, o report.Options) error {
				return f.Documents(w, "sheet", all, o)
			})
		},
	}
	out = addOutputs(cmd, func(f report.Form) bool { return f.Documents != nil })
	cmd.Flags().StringVar(&since, "since", "", "an older state of the estate: what changed since then is part of the sheet")
	return a.input(cmd)
}

// sheets makes the sheets of what a name means.
func (a *app) sheets(cmd *cobra.Command, e *pair.Estate, name, since string) ([]present.Document, error) {
	b, err := baseline.Named(baseline.Default)
	if err != nil {
		return nil, err
	}
	now, err := a.today()
	if err != nil {
		return nil, err
	}
	r, err := audit.Run(cmd.Context(), e, suite.All(), b, now)
	if err != nil {
		return nil, err
	}
	w, err := e.Whole(cmd.Context())
	if err != nil {
		return nil, err
	}
	ends, tunnels, known := sheet.Named(w, name)
	if len(ends) == 0 {
		for _, g := range w.Gateways {
			if g.Name == name {
				return nil, fmt.Errorf("%s has no connection", name)
			}
		}
		return nil, missing("connection", name, known)
	}
	var diff *changes.Diff
	if since != "" {
		old, err := a.load(cmd, []string{since})
		if err != nil {
			return nil, err
		}
		if diff, err = compared(cmd.Context(), old, since, r, w, b); err != nil {
			return nil, err
		}
	}
	var out []present.Document
	for i, end := range ends {
		var changed []string
		if diff != nil {
			changed = changedOf(diff, tunnels[i])
		}
		out = append(out, sheet.Of(w, tunnels[i], end, settings.All(), sheet.StateOf(r, tunnels[i].Name), changed))
	}
	return out, nil
}

// compared compares an older state of the estate with what it is now.
func compared(
	ctx context.Context,
	old *pair.Estate,
	name string,
	r *audit.Result,
	w *pair.Whole,
	b *baseline.Baseline,
) (*changes.Diff, error) {
	was, err := audit.Run(ctx, old, suite.All(), b, r.Now)
	if err != nil {
		return nil, err
	}
	before, err := old.Whole(ctx)
	if err != nil {
		return nil, err
	}
	return changes.Compare(changes.Of(name, was, before), changes.Of("now", r, w), settings.All()), nil
}

// changedOf are the changes that concern a tunnel or its gateways.
func changedOf(d *changes.Diff, t *pair.Tunnel) []string {
	out := []string{}
	for _, c := range slices.Concat(d.Tunnels, d.Meaning) {
		about := c.Subject
		concerns := strings.Contains(about, t.Name)
		for _, e := range t.Ends {
			concerns = concerns || about == e.Gateway.Name || strings.HasPrefix(about, e.Name())
		}
		if concerns {
			out = append(out, c.Subject+": "+c.Says)
		}
	}
	return out
}

func (a *app) keys() *cobra.Command {
	var out *outputs
	cmd := &cobra.Command{
		Use:   "keys PATH...",
		Short: "Take stock of certificates and keys: expiry, chains, reuse, the far ends' rules",
		Long: "Lists every certificate by the day on which it expires, with the connections that it carries; chains that reach\n" +
			"no authority that the far end trusts; pre-shared keys that serve several pairs of peers; and what far ends take as " +
			"keys, by toril.yaml.\n" +
			"No key is shown.",
		Example: "  toril keys estate/\n  toril keys estate/ -o keys.csv",
		Args:    paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			plan, err := out.plan(cmd)
			if err != nil {
				return err
			}
			now, err := a.today()
			if err != nil {
				return err
			}
			w, err := a.whole(cmd, args)
			if err != nil {
				return err
			}
			all := []present.Document{keys.Of(w, now)}
			o := report.Options{Look: a.look}
			err = a.write(cmd.Context(), plan, o, func(f report.Form, to io.Writer, o report.Options) error {
				return f.Documents(to, "keys", all, o)
			})
			if err == nil && len(w.Problems) > 0 {
				err = exit(exitFindings)
			}
			return err
		},
	}
	out = addOutputs(cmd, func(f report.Form) bool { return f.Documents != nil })
	return a.input(cmd)
}
