// Package cli is Toril's command line: one file a command, flags and exit codes, and no computation.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/internal/cache"
	"toril/internal/disk"
	"toril/internal/memory"
	"toril/internal/strictyaml"
	"toril/pair"
	"toril/report"
	"toril/source"
)

// Exit codes.
const (
	exitClean    = 0 // nothing at or above --fail-on
	exitFindings = 1 // something is, or a file could not be read
	exitUsage    = 2 // the command line is wrong, or nothing could be read

	exitInterrupted = 130 // as shells have it for a program that was interrupted
)

// patience is how long a program that was interrupted has to come to its end.
const patience = 700 * time.Millisecond

// exit is an error that only carries an exit code: everything was said already.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// app is what every command has: the streams and the context.
type app struct {
	in          io.Reader
	out, err    io.Writer
	look        report.Look
	as, gateway string       // what comes on standard input
	asOf        string       // the day for which certificates are judged, as it was written
	open        bool         // quotes show what was not understood
	books       []string     // phrasebooks that --phrasebook names
	cache       *cache.Cache // of what earlier runs worked out; nil for none
	kept        func() error // waits until it is closed, where that has begun
	sums        bool         // digests of what is read are wanted
	args        []string     // of the command line
	tabs        bool         // tabs are printed: see cleanWriter
	quiet       func()       // ends what is said about progress; nil where nothing is
}

// input adds the flags of every command that reads an estate.
func (a *app) input(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&a.as, "as", "", "format of what comes on standard input, where a PATH is \"-\" (see: toril formats)")
	cmd.Flags().StringVar(&a.gateway, "gateway", "stdin", "name of the gateway that standard input describes")
	cmd.Flags().BoolVar(&a.open, "show-unread", false, "show in quotes what was not understood, and comments: they may hold secrets")
	a.dated(cmd)
	return a.withBooks(cmd)
}

// withBooks adds the flag of every command that reads formats.
func (a *app) withBooks(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().
		StringArrayVar(&a.books, "phrasebook", nil, "file that teaches a device language (see: toril phrasebook); repeatable")
	return cmd
}

// Main runs a command line and returns the exit code.
func Main(args []string, in io.Reader, out, err io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	done := context.AfterFunc(ctx, func() { // what is still at it after a while is not waited for
		time.Sleep(patience)
		os.Exit(exitInterrupted)
	})
	defer done()
	a := &app{args: args, in: in, look: lookOf(out)}
	plain, words := &cleanWriter{to: out, color: a.look.Color}, &cleanWriter{to: err}
	raw := err
	a.tabs = len(args) > 0 && (args[0] == "completion" || args[0] == "fix" || strings.HasPrefix(args[0], "__complete"))
	plain.tabs = a.tabs
	a.out, a.err, out, err = plain, words, plain, words
	quiet := func() {
		if a.quiet != nil {
			a.quiet()
		}
	}
	plain.first, words.first = quiet, quiet
	defer plain.Close()
	defer words.Close()
	root := a.root()
	if len(args) > 0 && strings.HasPrefix(args[0], "__complete") {
		a.complete(root)
	}
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(err)
	e := a.waiting(ctx, raw, root)
	if ctx.Err() != nil {
		fmt.Fprintln(err, "toril: interrupted")
		return exitInterrupted
	}
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

// execute runs the command. A failure of the program itself is said in one line.
func (a *app) execute(ctx context.Context, root *cobra.Command) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("toril itself failed, which is a fault of its own: %v", r)
			if os.Getenv("TORIL_TRACE") != "" {
				err = fmt.Errorf("%w\n%s", err, debug.Stack())
			}
		}
	}()
	return root.ExecuteContext(ctx)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "toril",
		Short: "Are these IPsec tunnels sound?",
		Long: "Toril reads the saved configurations of firewalls and routers and says, with file and line,\n" +
			"what is weak, loose or contradictory in their IPsec tunnels, and what to write instead.\n" +
			"It touches no device and sends no packet.",
		Example: "  toril demo\n  toril estate/\n  toril ends estate/",
		Args:    cobra.ArbitraryArgs,
		RunE:    a.bare,

		PersistentPreRunE: spareInputs,
		SilenceUsage:      true,
		SilenceErrors:     true,
		Version:           report.Version, // what is printed is worked out when it is
	}
	if slices.Contains(a.args, "--version") {
		root.SetVersionTemplate(versionText() + "\n")
	}
	root.AddCommand(
		a.audit(),
		a.join(),
		a.except(),
		a.changes(),
		a.tunnels(),
		a.checks(),
		a.explain(),
		a.baseline(),
		a.defaults(),
		a.formats(),
		a.phrasebook(),
		a.export(),
		a.ends(),
		a.observed(),
		a.fix(),
		a.sheet(),
		a.keys(),
		a.mirror(),
		a.follow(),
		a.demo(),
		a.version(),
	)
	for _, c := range root.Commands() {
		if c.HasSubCommands() && !c.Runnable() {
			c.Args, c.RunE = cobra.ArbitraryArgs, group
		}
	}
	root.SetFlagErrorFunc(flagError)
	return root
}

// bare is toril without a command: alone it says what to do next, with a path it audits that.
func (a *app) bare(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		fmt.Fprint(a.out, "toril audits IPsec tunnels from what firewalls and routers saved. Next:\n\n"+
			"  toril demo            audits a made-up estate, which is built in\n"+
			"  toril demo --to DIR   writes that estate out, to be looked at and changed\n"+
			"  toril FOLDER          audits what lies in a folder: one folder for each gateway, with the files that it saved\n"+
			"  toril --help          all commands\n")
		return nil
	}
	if _, err := os.Stat(args[0]); err != nil {
		var names []string
		for _, c := range cmd.Commands() {
			names = append(names, c.Name())
		}
		return missing("command or folder", args[0], names)
	}
	of := a.audit()
	of.SetContext(cmd.Context())
	return of.RunE(of, args)
}

// group is a command that only has others below it.
func group(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return cmd.Help()
	}
	var names []string
	for _, c := range cmd.Commands() {
		names = append(names, c.Name())
	}
	return missing("command of "+cmd.CommandPath(), args[0], names)
}

// flagError names the flag that was probably meant.
func flagError(cmd *cobra.Command, err error) error {
	name, unknown := strings.CutPrefix(err.Error(), "unknown flag: ")
	if !unknown {
		return fmt.Errorf("%w; see: %s --help", err, cmd.CommandPath())
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, "--"+f.Name) })
	return missing("flag of "+cmd.CommandPath(), name, names)
}

// lookOf says how text may be laid out: colour and the real width only on a terminal.
func lookOf(out io.Writer) report.Look {
	l := report.Look{Width: 100}
	f, ok := out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return l
	}
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
		l.Width = min(w, 160)
	}
	_, plain := os.LookupEnv("NO_COLOR")
	l.Color = !plain && os.Getenv("TERM") != "dumb"
	return l
}

// atLeast takes named arguments, and more behind them.
func atLeast(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < len(names) {
			return fmt.Errorf("%s needs %s: for example %s", cmd.CommandPath(), audit.List(names[len(args):]), example(cmd))
		}
		return nil
	}
}

// exactly takes named arguments, and no more.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > len(names) {
			return fmt.Errorf(
				"%s takes %s, and %q is one too many: for example %s",
				cmd.CommandPath(),
				audit.List(names),
				args[len(names)],
				example(cmd),
			)
		}
		return atLeast(names...)(cmd, args)
	}
}

// paths takes the arguments of a command that reads an estate: PATH... behind some others.
func paths(others ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := atLeast(append(slices.Clone(others), "PATH")...)(cmd, args); err != nil {
			return err
		}
		if slices.Contains(args[len(others):], "") {
			return fmt.Errorf("a PATH of %s is empty: for example %s", cmd.CommandPath(), example(cmd))
		}
		return nil
	}
}

// example is the first of a command's examples.
func example(cmd *cobra.Command) string {
	first, _, _ := strings.Cut(strings.TrimSpace(cmd.Example), "\n")
	return first
}

// noArgs is for a command that takes none.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("%s takes no arguments, and %q is one; see: %s --help", cmd.CommandPath(), args[0], cmd.CommandPath())
	}
	return nil
}

// checkInput refuses flags about standard input where nothing comes from there.
func (a *app) checkInput(cmd *cobra.Command, args []string) error {
	if slices.Contains(args, "-") || cmd.Name() == "export" { // whose --as is the form of what is written
		return nil
	}
	for _, name := range []string{"as", "gateway"} {
		f := cmd.Flags().Lookup(name)
		if f != nil && f.Changed && (name == "as" || cmd.Name() != "follow") {
			return fmt.Errorf("--%s is about standard input, and no PATH is \"-\"", name)
		}
	}
	return nil
}

// load reads an estate. Problems are named on standard error; where nothing at all could be read the error is an exit.
func (a *app) load(cmd *cobra.Command, paths []string) (*pair.Estate, error) {
	e, err := a.loadFor(cmd, paths, false)
	if err != nil {
		return nil, err
	}
	return e, a.complain(e)
}

// loadFor is load, and names no problems; again is as in estate.Options.
func (a *app) loadFor(cmd *cobra.Command, paths []string, again bool) (*pair.Estate, error) {
	known, err := a.known()
	if err != nil {
		return nil, err
	}
	now, err := a.today()
	if err != nil {
		return nil, err
	}
	opts := estate.Options{Formats: known, Day: now, Stdin: a.in, As: a.as, Gateway: a.gateway, ShowUnread: a.open, Cache: a.cache,
		Sums: a.sums, Found: memory.Expect}
	opts.Again = again && a.cache == nil && !a.sums
	if a.cache != nil || a.sums {
		program, books, err := a.program()
		if err != nil {
			return nil, err
		}
		s := cache.NewSum("program with phrasebooks")
		s.Bytes(program[:])
		s.Bytes(books[:])
		opts.Program = s.Digest()
	}
	if names := namesOf(known); opts.As != "" && !slices.Contains(names, opts.As) {
		return nil, missing("format", opts.As, names)
	}
	if err := a.checkInput(cmd, paths); err != nil {
		return nil, err
	}
	return pair.Load(cmd.Context(), paths, opts)
}

// whole reads an estate as load does, and keeps all of it in memory.
func (a *app) whole(cmd *cobra.Command, paths []string) (*pair.Whole, error) {
	e, err := a.load(cmd, paths)
	if err != nil {
		return nil, err
	}
	return e.Whole(cmd.Context())
}

// complain names what could not be read on standard error.
func (a *app) complain(e *pair.Estate) error {
	a.name(e.Problems)
	if e.Read == 0 {
		fmt.Fprintln(a.err, "toril: nothing could be read")
		return exit(exitUsage)
	}
	return nil
}

// name names problems on standard error.
func (a *app) name(problems []*source.Error) {
	for _, p := range problems {
		fmt.Fprintf(a.err, "toril: %s\n", source.Clean(p.Error()))
	}
}

// pickBaseline returns a baseline by name, or out of a file.
func pickBaseline(name string) (*baseline.Baseline, error) {
	if !strings.ContainsAny(name, "./\\") {
		return baseline.Named(name)
	}
	data, err := disk.ReadFile(name, strictyaml.MaxBytes)
	if err != nil {
		return nil, fmt.Errorf("the baseline %s cannot be read: %w", name, err)
	}
	return baseline.Parse(name, data)
}

// beginBaseline is pickBaseline; one of Toril's own, which cannot fail, is read beside what comes next.
func beginBaseline(name string) (func() *baseline.Baseline, error) {
	if !slices.Contains(baseline.Names(), name) {
		b, err := pickBaseline(name)
		return func() *baseline.Baseline { return b }, err
	}
	read := sync.OnceValues(func() (*baseline.Baseline, error) { return baseline.Named(name) })
	go read()
	return func() *baseline.Baseline {
		b, err := read()
		if err != nil {
			panic(err) // a test reads them all
		}
		return b
	}, nil
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

func severityFlag(value string) (audit.Severity, error) { return audit.ParseSeverity(value) }

// Commands lists every command below toril, for documents and tests.
func Commands() []*cobra.Command {
	a := &app{out: io.Discard, err: io.Discard}
	root := a.root()
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	var out []*cobra.Command
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if !sub.Hidden {
				out = append(out, sub)
				walk(sub)
			}
		}
	}
	walk(root)
	return out
}

// Root is toril itself, for documents.
func Root() *cobra.Command {
	return (&app{out: io.Discard, err: io.Discard}).root()
}
