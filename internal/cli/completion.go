package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/daemon/known"
	"toril/estate"
	"toril/pair"
)

// patient is how long completion may read an estate.
const patient = 2 * time.Second

// words returns what completes a flag or an argument of a kind, given the paths that were typed already.
type words func(a *app, cmd *cobra.Command, paths []string) []string

// kinds are what can be completed: flags by their name, arguments by the word of the command's usage.
func kinds() map[string]words {
	return map[string]words{
		"--baseline": func(*app, *cobra.Command, []string) []string { return baseline.Names() },
		"--at-least": severities,
		"--fail-on": func(a *app, cmd *cobra.Command, paths []string) []string {
			if cmd.Name() == "changes" {
				return []string{"nothing", "new", "any"}
			}
			return severities(a, cmd, paths)
		},
		"--as": func(a *app, cmd *cobra.Command, _ []string) []string {
			if cmd.Name() == "export" {
				return []string{"yang", "yang-xml"}
			}
			formats, err := a.known()
			if err != nil {
				return nil
			}
			return namesOf(formats)
		},
		"--gateway": func(a *app, _ *cobra.Command, paths []string) []string { return a.names(paths, false) },
		"GATEWAY":   func(a *app, _ *cobra.Command, paths []string) []string { return a.names(paths, false) },
		"GATEWAY/CONNECTION": func(a *app, _ *cobra.Command, paths []string) []string {
			return a.names(paths, true)
		},
		"CHECK":  func(*app, *cobra.Command, []string) []string { return checkNames() },
		"NAME":   func(*app, *cobra.Command, []string) []string { return baseline.Names() },
		"DAEMON": func(*app, *cobra.Command, []string) []string { return daemonNames() },
		"FINDING": func(a *app, cmd *cobra.Command, paths []string) []string {
			return a.findings(cmd.Context(), paths)
		},
	}
}

func severities(*app, *cobra.Command, []string) []string {
	var out []string
	for s := audit.Info; s <= audit.Critical; s++ {
		out = append(out, s.String())
	}
	return out
}

func daemonNames() []string {
	var out []string
	for _, k := range known.All() {
		out = append(out, k.Daemon.Name)
	}
	return out
}

// complete gives every command below one what completes its flags and its first argument; paths are completed by the shell.
func (a *app) complete(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		a.complete(sub)
	}
	known := kinds()
	for name, of := range known {
		if flag, is := strings.CutPrefix(name, "--"); is && cmd.Flags().Lookup(flag) != nil {
			_ = cmd.RegisterFlagCompletionFunc(
				flag,
				func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
					return beginning(of(a, cmd, args), begun), cobra.ShellCompDirectiveNoFileComp
				},
			)
		}
	}
	first := strings.Trim(strings.SplitN(cmd.Use+"  ", " ", 3)[1], "[]")
	of := known[first]
	if of == nil || cmd.ValidArgsFunction != nil {
		return
	}
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return beginning(of(a, cmd, nil), begun), cobra.ShellCompDirectiveNoFileComp
	}
}

func beginning(words []string, begun string) []string {
	out := slices.DeleteFunc(slices.Clone(words), func(w string) bool { return !strings.HasPrefix(w, begun) })
	slices.Sort(out)
	return slices.Compact(out)
}

// quietly reads the estate of some paths, or of the current folder, for as long as a person waits for a completion; nil where there is
// none.
func (a *app) quietly(ctx context.Context, paths []string) *pair.Estate {
	formats, err := a.known()
	if err != nil {
		return nil
	}
	if len(paths) == 0 {
		paths = []string{"."}
	}
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, done := context.WithTimeout(ctx, patient)
	defer done()
	e, err := pair.Load(ctx, paths, estate.Options{Formats: formats})
	if err != nil {
		return nil
	}
	return e
}

// names lists the gateways of an estate, or their connections.
func (a *app) names(paths []string, connections bool) (out []string) {
	e := a.quietly(context.Background(), paths)
	if e == nil {
		return nil
	}
	for _, g := range e.Gateways {
		if !connections {
			out = append(out, g.Name)
			continue
		}
		for _, c := range g.Connections {
			out = append(out, g.Name+"/"+c.Name)
		}
	}
	return out
}

// findings lists the findings of an estate by their ids, each with what it is.
func (a *app) findings(ctx context.Context, paths []string) (out []string) {
	e := a.quietly(ctx, paths)
	b, err := baseline.Named(baseline.Default)
	if e == nil || err != nil {
		return nil
	}
	r, err := audit.Run(context.Background(), e, suite.All(), b, time.Now())
	if err != nil {
		return nil
	}
	for _, c := range r.Causes() {
		out = append(out, c.ID[:8]+"\t"+c.Check+" "+c.Subject())
	}
	return out
}
