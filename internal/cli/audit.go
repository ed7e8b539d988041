package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/estate"
	"toril/follow"
	"toril/internal/disk"
	"toril/internal/strictyaml"
	"toril/model/settings"
	"toril/negotiate"
	"toril/pair"
	"toril/report"
	"toril/tunnels"
)

// auditFlags are the flags of every command that audits.
type auditFlags struct {
	out                       *outputs
	exceptions                string
	failOn, atLeast, baseline string
	all, certainOnly          bool
}

func (f *auditFlags) add(cmd *cobra.Command) {
	f.out = addOutputs(cmd, func(f report.Form) bool { return f.Audit != nil })
	cmd.Flags().StringVar(&f.exceptions, "exceptions", "", "file with exceptions, beside those of toril.yaml")
	cmd.Flags().StringVar(&f.atLeast, "at-least", "info", "lowest severity that the text shows: info, low, medium, high, critical")
	cmd.Flags().BoolVar(
		&f.all,
		"all",
		false,
		"show every finding whole, with why; those that exceptions accept; and every file that was read",
	)
	cmd.Flags().StringVar(&f.baseline, "baseline", baseline.Default, "name of a baseline, or a file with one")
}

func (a *app) audit() *cobra.Command {
	var f auditFlags
	var dir, part string
	cmd := &cobra.Command{
		Use:   "audit PATH...",
		Short: "Report what is wrong, where, why it matters and how to fix it",
		Long: "Reads every gateway below the paths and asks every check. A path is a folder with one folder per gateway,\n" +
			"the folder of one gateway, an archive (.tar, .tar.gz, .zip) of either, a file, or \"-\" for standard input.\n\n" +
			"Exit code: 0 nothing at or above --fail-on, 1 something is, or may be for what was not understood, or a file\n" +
			"could not be read, 2 wrong usage or nothing could be read. With --certain-only, 1 says that something certainly is.",
		Example: "  toril audit estate/\n  toril audit estate/ -o report.html -o report.sarif\n" +
			"  toril audit estate/ --baseline nist --fail-on medium\n" +
			"  cat estate/lampwright/swanctl.conf | toril audit - --gateway lampwright",
		Args: paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			if part != "" {
				var err error
				if a.cache, err = a.openCache(dir); err != nil {
					return err
				}
				return a.close(a.auditPart(cmd, args, &f, part))
			}
			asked, err := a.asked(cmd, &f)
			if err != nil {
				return err
			}
			if a.cache, err = a.openCache(dir); err != nil {
				return err
			}
			e, r, err := a.loadAndAudit(cmd, args, asked)
			if err := a.close(err); err != nil {
				return err
			}
			if len(e.Problems) > 0 {
				return exit(exitFindings)
			}
			return verdict(r, asked)
		},
	}
	f.add(cmd)
	f.addFailOn(cmd)
	cmd.Flags().StringVar(&dir, "cache", "", "folder in which to keep what was worked out: the next audit only works on what changed")
	cmd.Flags().StringVar(&part, "part", "", "do one part of the work only, as 2/8, and write it to --output (see: toril join)")
	return a.input(cmd)
}

// addFailOn adds the flag of the commands whose exit code says what was found.
func (f *auditFlags) addFailOn(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.failOn, "fail-on", "high", "lowest severity that makes the exit code 1")
	cmd.Flags().BoolVar(&f.certainOnly, "certain-only", false,
		"only what is certain makes the exit code 1: no possible finding, and no statement that was not understood")
}

// verdict is the exit code that the result of an audit makes.
func verdict(r *audit.Result, asked audited) error {
	if len(r.Failed) > 0 || r.Fails(asked.failOn, asked.certain) {
		return exit(exitFindings)
	}
	return nil
}

// loadAndAudit reads an estate, audits it and writes the report.
func (a *app) loadAndAudit(cmd *cobra.Command, args []string, asked audited) (*pair.Estate, *audit.Result, error) {
	e, err := a.loadFor(cmd, args, true)
	if err == nil && e.Read == 0 {
		err = a.complain(e)
	}
	if err != nil {
		return nil, nil, err
	}
	r, err := a.runAudit(cmd.Context(), e, asked)
	return e, r, err
}

// audited is what the flags of an audit ask for.
type audited struct {
	plan       []written
	exceptions []*estate.Exception
	failOn     audit.Severity
	certain    bool // only what is certain makes the exit code 1
	least      audit.Severity
	baseline   func() *baseline.Baseline
	now        time.Time
	all        bool
}

// asked reads the flags, before anything else is read.
func (a *app) asked(cmd *cobra.Command, f *auditFlags) (out audited, err error) {
	if out.plan, err = f.out.plan(cmd); err != nil {
		return out, err
	}
	if f.exceptions != "" {
		data, err := disk.ReadFile(f.exceptions, strictyaml.MaxBytes)
		if err != nil {
			return out, fmt.Errorf("the exceptions %s cannot be read: %w", f.exceptions, err)
		}
		if out.exceptions, err = estate.ParseExceptions(f.exceptions, data); err != nil {
			return out, err
		}
	}
	if out.least, err = severityFlag(f.atLeast); err != nil {
		return out, err
	}
	if out.failOn, err = severityFlag(cmp.Or(f.failOn, audit.High.String())); err != nil {
		return out, err
	}
	if out.baseline, err = beginBaseline(f.baseline); err != nil {
		return out, err
	}
	out.all, out.certain = f.all, f.certainOnly
	out.now, err = a.today()
	return out, err
}

// runAudit audits an estate and writes the report.
func (a *app) runAudit(ctx context.Context, e *pair.Estate, asked audited) (*audit.Result, error) {
	e.Exceptions = append(e.Exceptions, asked.exceptions...)
	r, err := audit.Run(ctx, e, suite.All(), asked.baseline(), asked.now)
	if err != nil {
		return nil, err
	}
	a.keep()
	if err := a.complain(e); err != nil {
		return nil, err
	}
	a.name(r.Failed)
	return r, a.report(ctx, r, asked, func() (*report.More, error) { return moreOf(ctx, r) })
}

// report writes what an audit found; more works out what a page shows beside.
func (a *app) report(ctx context.Context, r *audit.Result, asked audited, more func() (*report.More, error)) error {
	all := &report.Audited{Result: r, Checks: suite.All(), More: sync.OnceValues(more)}
	o := report.Options{Look: a.look, Least: asked.least, FailOn: asked.failOn, CertainOnly: asked.certain, All: asked.all}
	return a.write(ctx, asked.plan, o, func(f report.Form, w io.Writer, o report.Options) error { return f.Audit(w, all, o) })
}

// waysOfChild is how many parts of a child's packets a page shows.
const waysOfChild = 4

// moreOf works out what a page shows beside findings. All of the estate is in memory then.
func moreOf(ctx context.Context, r *audit.Result) (*report.More, error) {
	w, err := r.Estate.Whole(ctx)
	if err != nil {
		return nil, err
	}
	out := &report.More{Views: tunnels.Of(w, settings.All()), Place: func(x follow.Way) string { return w.Place(x.Decided) }}
	tunnels.Mark(out.Views, tunnels.MarksOf(r, suite.All()), settings.All())
	for _, t := range w.Tunnels {
		out.Attempts = append(out.Attempts, negotiate.Tunnel(t))
	}
	for _, g := range w.Gateways {
		ways, left := follow.Ways(w, g, waysOfChild)
		out.Ways = append(out.Ways, report.GatewayWays{Gateway: g.Name, Ways: ways, Left: left})
	}
	return out, ctx.Err()
}
