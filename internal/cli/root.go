// Package cli is Toril's command line: one file a command, flags and exit codes, and no computation.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/read/formats"
	"toril/report"
	"toril/source"
)

// Exit codes.
const (
	exitClean    = 0 // nothing at or above --fail-on
	exitFindings = 1 // something is, or a file could not be read
	exitUsage    = 2 // the command line is wrong, or nothing could be read
)

// exit is an error that only carries an exit code: everything was said already.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// app is what every command has: the streams and the context.
type app struct {
	in          io.Reader
	out, err    io.Writer
	as, gateway string // what comes on standard input
}

// input adds the flags of every command that reads an estate.
func (a *app) input(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&a.as, "as", "", "format of what comes on standard input, where a PATH is \"-\" (see: toril formats)")
	cmd.Flags().StringVar(&a.gateway, "gateway", "stdin", "name of the gateway that standard input describes")
	return cmd
}

// Main runs a command line and returns the exit code.
func Main(args []string, in io.Reader, out, err io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	a := &app{in: in, out: out, err: err}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(err)
	e := root.ExecuteContext(ctx)
	var code exit
	switch {
	case e == nil:
		return exitClean
	case errors.As(e, &code):
		return int(code)
	}
	lines := strings.Split(strings.TrimSpace(e.Error()), "\n")
	for i, line := range lines {
		lines[i] = source.Clean(strings.ReplaceAll(line, "\t", "  "))
	}
	fmt.Fprintf(err, "toril: %s\n", strings.Join(lines, "\n"))
	return exitUsage
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "toril",
		Short:         "Are these IPsec tunnels sound?",
		Long:          "Toril reads the saved configurations of firewalls and routers and says, with file and line,\nwhat is weak, loose or contradictory in their IPsec tunnels, and what to write instead.\nIt touches no device and sends no packet.",
		SilenceUsage:  true,
		SilenceErrors: true,
		Version:       versionText(),
	}
	root.SetVersionTemplate("{{.Version}}\n")
	root.CompletionOptions.HiddenDefaultCmd = true
	root.AddCommand(a.audit(), a.tunnels(), a.checks(), a.explain(), a.baseline(), a.formats(), a.ends(), a.mirror(), a.follow(), a.demo(), a.version())
	return root
}

// look says how text may be laid out: colour and the real width only on a terminal.
func (a *app) look() report.Look {
	l := report.Look{Width: 100}
	f, ok := a.out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return l
	}
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
		l.Width = min(w, 140)
	}
	_, plain := os.LookupEnv("NO_COLOR")
	l.Color = !plain && os.Getenv("TERM") != "dumb"
	return l
}

// load reads an estate. Problems are named on standard error; where nothing at all could be read the error is an exit.
func (a *app) load(ctx context.Context, paths []string) (*estate.Estate, error) {
	opts := estate.Options{Formats: formats.All(), Stdin: a.in, As: a.as, Gateway: a.gateway}
	if opts.As != "" && !slices.Contains(formatNames(), opts.As) {
		return nil, missing("format", opts.As, formatNames())
	}
	e, err := estate.Load(ctx, paths, opts)
	if err != nil {
		return nil, err
	}
	return e, a.complain(e)
}

func (a *app) complain(e *estate.Estate) error {
	for _, p := range e.Problems {
		fmt.Fprintf(a.err, "toril: %s\n", source.Clean(p.Error()))
	}
	if e.Read == 0 {
		fmt.Fprintln(a.err, "toril: nothing could be read")
		return exit(exitUsage)
	}
	return nil
}

// pickBaseline returns a baseline by name, or out of a file.
func pickBaseline(name string) (*baseline.Baseline, error) {
	if !strings.ContainsAny(name, "./\\") {
		return baseline.Named(name)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return baseline.Parse(name, data)
}

// missing makes the error for a name that is not known, with the nearest that is.
func missing(kind, name string, known []string) error {
	best, distance := "", 1+len(name)/2
	for _, k := range known {
		if d := levenshtein.ComputeDistance(name, k); d < distance {
			best, distance = k, d
		}
	}
	if best != "" {
		return fmt.Errorf("there is no %s %q; did you mean %q?", kind, name, best)
	}
	return fmt.Errorf("there is no %s %q; known are: %s", kind, name, strings.Join(known, ", "))
}

// format checks the value of --format.
func format(value string, known ...string) error {
	for _, k := range known {
		if value == k {
			return nil
		}
	}
	return fmt.Errorf("unknown format %q; known are: %s", value, strings.Join(known, ", "))
}

func severityFlag(value string) (audit.Severity, error) { return audit.ParseSeverity(value) }
