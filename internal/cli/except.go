package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/estate"
	"toril/internal/disk"
	"toril/internal/strictyaml"
	"toril/present"
	"toril/source"
)

// except: it is long as a command is: its help, its flags, and what it does one after the other.
func (a *app) except() *cobra.Command {
	var x estate.ExceptionText
	var file, base string
	var alone bool
	cmd := &cobra.Command{
		Use:   "except FINDING PATH...",
		Short: "Accept a finding until a day: adds an exception to toril.yaml",
		Long: "Adds an exception for a finding to the toril.yaml of the estate, or to the file of --exceptions: a named owner\n" +
			"accepts it for a reason until a day. FINDING is its id, or the first digits of it, as the report shows it. The exception\n" +
			"names this finding and those with the same cause, whatever line they move to; what is found later is not accepted with\n" +
			"it. The rest of the file stays as it is.",
		Example: "  toril except c8412c7d estate/ --reason \"the firewall is replaced in May\" --owner \"Ada Quill\" --until 2027-05-31",
		Args:    paths("FINDING"),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := pickBaseline(base)
			if err != nil {
				return err
			}
			now, err := a.today()
			if err != nil {
				return err
			}
			if file == "" {
				if file, err = configOf(args[1:]); err != nil {
					return err
				}
			}
			e, err := a.load(cmd, args[1:])
			if err != nil {
				return err
			}
			r, err := audit.Run(cmd.Context(), e, suite.All(), b, now)
			if err != nil {
				return err
			}
			f, err := pickFinding(r, args[0])
			if err != nil {
				return err
			}
			x.Findings = []string{f.ID}
			for _, one := range r.Findings {
				if !alone && one.PartOf == f.ID {
					x.Findings = append(x.Findings, one.ID)
				}
			}
			if len(x.Findings) == 1 {
				x.Check = f.Check
			}
			if err := a.add(cmd.Context(), file, x); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s %s %s\n%s accepted until %s by %s; wrote %s\n", f.Severity, f.Check, f.Subject(),
				present.Plural(len(x.Findings), "finding"), x.Until, source.Clean(x.Owner), file)
			return nil
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&x.Reason, "reason", "", "why it is accepted (required)")
	flags.StringVar(&x.Owner, "owner", "", "who answers for that (required)")
	flags.StringVar(&x.Until, "until", "", "the last day, as 2027-01-31 (required)")
	flags.StringVar(&file, "exceptions", "", "file to add it to (default: the toril.yaml of the estate)")
	flags.BoolVar(&alone, "alone", false, "accept this finding only, and not those with the same cause")
	flags.StringVar(&base, "baseline", "sound", "name of a baseline, or a file with one")
	return a.input(cmd)
}

// configOf is the toril.yaml of the estate that paths name.
func configOf(paths []string) (string, error) {
	if len(paths) == 1 {
		if info, err := os.Stat(paths[0]); err == nil && info.IsDir() {
			return filepath.Join(paths[0], estate.ConfigName), nil
		}
	}
	return "", errors.New("the estate is no single folder, so it has no toril.yaml: name a file with --exceptions")
}

// add writes a file of exceptions anew, with one more.
func (a *app) add(ctx context.Context, file string, x estate.ExceptionText) error {
	text, err := disk.ReadFile(file, strictyaml.MaxBytes)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s cannot be read: %w", file, err)
	}
	out, err := estate.AddException(file, text, x)
	if err != nil {
		return err
	}
	return disk.Replace(ctx, file, func(w io.Writer) error {
		_, err := w.Write(out)
		return err
	})
}

// pickFinding finds a finding by its identity, or by the first digits of it.
func pickFinding(r *audit.Result, id string) (*audit.Finding, error) {
	var found []*audit.Finding
	for _, f := range r.Findings {
		if strings.HasPrefix(f.ID, strings.ToLower(id)) {
			found = append(found, f)
		}
	}
	switch {
	case len(id) < 4:
		return nil, fmt.Errorf("%q is too short for a finding: name at least 4 digits of its id (audit --all shows it)", id)
	case len(found) == 0:
		return nil, fmt.Errorf("there is no finding %q: audit --all shows the ids", id)
	case len(found) > 1:
		return nil, fmt.Errorf("%q is the beginning of %d findings; name more digits", id, len(found))
	}
	return found[0], nil
}

// dated adds the flag that names the day for which certificates are judged.
func (a *app) dated(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.asOf, "as-of", "", "day for which certificates are judged, as 2027-01-31 (default today)")
}

// today is the day for which certificates are judged.
func (a *app) today() (time.Time, error) { return day(a.asOf) }

// day reads a day; today where it is empty.
func day(text string) (time.Time, error) {
	if text == "" {
		return time.Now().UTC().Truncate(24 * time.Hour), nil
	}
	out, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return out, fmt.Errorf("--as-of: %q is not a day such as 2027-01-31", text)
	}
	return out, nil
}
