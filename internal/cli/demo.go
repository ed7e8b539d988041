package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/demo"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

func (a *app) demo() *cobra.Command {
	var f auditFlags
	var to string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Audit the demonstration estate that is built in, or write it out with --to",
		Long: "Audits the made-up estate of the Lanternshore lighthouse service: a control centre, two lights, a depot, a\n" +
			"harbour office, a pilots' station, and three devices of makes that only phrasebooks can read. Two gateways\n" +
			"are clean, the others hold the usual faults. It is a showcase: the exit code is 0 although there are findings.",
		Example: "  toril demo\n  toril demo -o report.html\n  toril demo --to my-estate",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("to") {
				if to == "" {
					return errors.New("--to needs a folder that is new or empty")
				}
				for _, name := range []string{"format", "output", "exceptions", "all", "at-least", "baseline", "as-of"} {
					if cmd.Flags().Changed(name) {
						return fmt.Errorf("--to writes the estate out and audits nothing: --%s has no meaning with it", name)
					}
				}
				if err := writeOut(cmd.Context(), demo.Estate(), to); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "the demonstration estate is in %s; next: toril audit %s\n", to, to)
				return nil
			}
			asked, err := f.asked(cmd)
			if err != nil {
				return err
			}
			e, err := pair.LoadFS(cmd.Context(), demo.Estate(), estate.Options{Formats: formats.All()})
			if err != nil {
				return err
			}
			asked.failOn = audit.High
			if err := a.complain(e); err != nil {
				return err
			}
			_, err = a.runAudit(cmd.Context(), e, asked)
			return err
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&to, "to", "", "write the estate into this folder, which must be new or empty, and audit nothing")
	return cmd
}

// writeOut copies a file system into a folder that is new or empty: all of it or nothing.
func writeOut(ctx context.Context, from fs.FS, to string) (err error) {
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty; nothing was written", to)
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return fmt.Errorf("%s cannot be written: %w", to, err)
	}
	part, err := os.MkdirTemp(to, ".part-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", to, err)
	}
	defer os.RemoveAll(part)
	if err := copied(from, part); err != nil {
		return err
	}
	entries, err := os.ReadDir(part)
	if err == nil {
		err = ctx.Err()
	}
	for _, e := range entries {
		if err == nil {
			err = os.Rename(filepath.Join(part, e.Name()), filepath.Join(to, e.Name()))
		}
	}
	return err
}

// copied writes every file of a file system below a folder.
func copied(from fs.FS, to string) error {
	return fs.WalkDir(from, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(to, filepath.FromSlash(name))
		if d.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		data, err := fs.ReadFile(from, name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, data, 0o644)
	})
}
