package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/estate"
	"toril/fix"
	"toril/internal/disk"
	"toril/pair"
	"toril/report"
)

// fixFlags choose findings.
type fixFlags struct {
	findings, checks, gateways []string
	atLeast                    string
}

func (a *app) fix() *cobra.Command {
	var out *outputs
	var choose fixFlags
	var base, apply string
	cmd := &cobra.Command{
		Use:   "fix PATH...",
		Short: "Write edits that make findings go away, each proved before it is shown",
		Long: "Writes the edit of every finding that has a sure fix, as a unified diff in the file's own format.\n" +
			"Every edit is proved: the edited text is read again and audited; the finding is gone, no other has come, no tunnel\n" +
			"is worse off and nothing that is negotiated is weaker. Where both ends must change, both diffs are shown, and the\n" +
			"order. What has no mechanical fix says why. Each diff applies to what the diffs before it have made of the files.\n" +
			"The input is never changed.\n\n" +
			"Exit code: 0 every finding that was asked for is fixed, 1 some are not or a file could not be read, 2 wrong usage.",
		Example: "  toril fix estate/ --check nat\n  toril fix estate/ --gateway lampwright --apply edited/",
		Args:    paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			plan, err := out.plan(cmd)
			if err != nil {
				return err
			}
			b, err := pickBaseline(base)
			if err != nil {
				return err
			}
			now, err := a.today()
			if err != nil {
				return err
			}
			wanted, err := choose.wanted()
			if err != nil {
				return err
			}
			if slices.Contains(args, "-") {
				return errors.New("standard input cannot be read again, which a proof needs: give a file or a folder")
			}
			s := &fix.Session{Checks: suite.All(), Baseline: b, Now: now}
			return a.runFix(cmd.Context(), s, args, wanted, choose.named(), plan, apply)
		},
	}
	out = addOutputs(cmd, func(f report.Form) bool { return f.Fixes != nil })
	cmd.Flags().StringArrayVar(&choose.findings, "finding", nil, "ID of a finding, or how it begins; repeatable")
	cmd.Flags().StringArrayVar(&choose.checks, "check", nil, "name of a check, or of an area of checks as nat; repeatable")
	cmd.Flags().StringArrayVar(&choose.gateways, "gateway", nil, "name of a gateway whose findings are fixed; repeatable")
	cmd.Flags().StringVar(&choose.atLeast, "at-least", "low", "lowest severity that is fixed: info, low, medium, high, critical")
	cmd.Flags().StringVar(&base, "baseline", baseline.Default, "name of a baseline, or a file with one")
	a.dated(cmd)
	cmd.Flags().StringVar(&apply, "apply", "", "folder to write the edited copies of files to; it must not hold them yet")
	return a.withBooks(cmd)
}

// runFix fixes what is wanted, writes it, and the edited copies where they are asked for.
func (a *app) runFix(
	ctx context.Context,
	s *fix.Session,
	args []string,
	wanted fix.Wanted,
	named bool,
	plan []written,
	apply string,
) error {
	problems := 0
	var err error
	if s.Load, err = a.again(args, &problems); err != nil {
		return err
	}
	fixes, err := s.Run(ctx, wanted)
	if err != nil {
		return err
	}
	if len(fixes) == 0 && named {
		return errors.New("no finding is meant: see toril audit for their IDs, checks and gateways")
	}
	o := report.Options{Look: a.look}
	err = a.write(ctx, plan, o, func(f report.Form, w io.Writer, o report.Options) error { return f.Fixes(w, fixes, o) })
	if err == nil && apply != "" {
		err = a.applied(ctx, apply, s)
	}
	if err == nil && (problems > 0 || slices.ContainsFunc(fixes, (*fix.Fix).Stays)) {
		err = exit(exitFindings)
	}
	return err
}

// named reports whether particular findings were asked for.
func (f *fixFlags) named() bool { return len(f.findings)+len(f.checks)+len(f.gateways) > 0 }

// wanted is what the flags choose: of each kind one of those that are named, where any is.
func (f *fixFlags) wanted() (fix.Wanted, error) {
	least, err := severityFlag(f.atLeast)
	if err != nil {
		return nil, err
	}
	var areas []string
	for _, c := range suite.All() {
		areas = append(areas, c.Name, c.Area())
	}
	for _, c := range f.checks {
		if !slices.Contains(areas, c) {
			return nil, missing("check", c, areas)
		}
	}
	any := func(of []string, is func(string) bool) bool { return len(of) == 0 || slices.ContainsFunc(of, is) }
	return func(x *audit.Finding) bool {
		return x.Severity >= least &&
			any(f.findings, func(id string) bool { return strings.HasPrefix(x.ID, strings.ToLower(id)) }) &&
			any(f.checks, func(c string) bool { return x.Check == c || strings.HasPrefix(x.Check, c+"/") }) &&
			any(f.gateways, func(g string) bool { return x.Gateway == g })
	}, nil
}

// again returns how the estate is read again with edited files. The first time, what cannot be read is named.
func (a *app) again(args []string, problems *int) (fix.Estate, error) {
	known, err := a.known()
	if err != nil {
		return nil, err
	}
	first := true
	now, err := a.today()
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, edited map[string][]byte, only []string) (*pair.Estate, error) {
		e, err := pair.Load(ctx, args, estate.Options{Formats: known, Edited: edited, Only: only, Day: now})
		if err != nil || !first {
			return e, err
		}
		first, *problems = false, len(e.Problems)
		return e, a.complain(e)
	}, nil
}

// applied writes the edited files below a folder, and no file that is there.
func (a *app) applied(ctx context.Context, dir string, s *fix.Session) error {
	targets := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(s.Edited)) {
		if bytes.Equal(s.Edited[name], s.Original[name]) {
			continue
		}
		rel := strings.TrimLeft(strings.ReplaceAll(filepath.ToSlash(filepath.Clean(name)), "../", ""), "/")
		to := filepath.Join(dir, filepath.FromSlash(rel))
		if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("--apply %s: %s is there already; nothing was written", dir, to)
		}
		targets[name] = to
	}
	for _, name := range slices.Sorted(maps.Keys(targets)) {
		to := targets[name]
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return fmt.Errorf("--apply %s: %w", dir, err)
		}
		err := disk.Replace(ctx, to, func(w io.Writer) error { _, err := w.Write(s.Edited[name]); return err })
		if err == nil {
			err = os.Chmod(to, 0o600) // a configuration may hold keys
		}
		if err != nil {
			return err
		}
		fmt.Fprintf(a.err, "toril: wrote %s\n", to)
	}
	return nil
}
