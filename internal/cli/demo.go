package cli

import (
	"bytes"
	"context"
	"encoding/csv"
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
	"toril/present"
	"toril/read/formats"
)

func (a *app) demo() *cobra.Command {
	var f auditFlags
	var to, faults string
	var gateways int
	var seed uint64
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Audit the demonstration estate that is built in, or write it out with --to",
		Long: "Audits the made-up estate of the Lanternshore lighthouse service: a control centre, two lights, a depot, a\n" +
			"harbour office, a pilots' station, and three devices of makes that only phrasebooks can read. Two gateways\n" +
			"are clean, the others hold the usual faults. It is a showcase: the exit code is 0 although there are findings.\n\n" +
			"With --gateways an estate of any size is made: hubs with their lights, yards that all know each other, quays\n" +
			"with partners whose files are not given. Some tunnels have a fault; all others are sound.",
		Example: "  toril demo\n  toril demo -o report.html\n  toril demo --to my-estate\n" +
			"  toril demo --to many --gateways 1000 --faults faults.csv",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !cmd.Flags().Changed("gateways") && (cmd.Flags().Changed("seed") || faults != "") {
				return errors.New("--seed and --faults are of an estate that is made: with --gateways")
			}
			if cmd.Flags().Changed("gateways") && !cmd.Flags().Changed("to") {
				return errors.New("--gateways makes an estate: with --to, the folder for it")
			}
			if cmd.Flags().Changed("to") {
				if to == "" {
					return errors.New("--to needs a folder that is new or empty")
				}
				for _, name := range []string{"format", "output", "exceptions", "all", "at-least", "baseline", "as-of"} {
					if cmd.Flags().Changed(name) {
						return fmt.Errorf("--to writes the estate out and audits nothing: --%s has no meaning with it", name)
					}
				}
				if cmd.Flags().Changed("gateways") {
					return a.makeEstate(cmd.Context(), to, faults, gateways, seed)
				}
				if err := writeOut(cmd.Context(), to, func(part string) error { return copied(demo.Estate(), part) }); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "the demonstration estate is in %s; next: toril audit %s\n", to, to)
				return nil
			}
			asked, err := a.asked(cmd, &f)
			if err != nil {
				return err
			}
			e, err := pair.LoadFS(cmd.Context(), demo.Estate(), estate.Options{Formats: formats.All(), Day: asked.now})
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
	a.dated(cmd)
	cmd.Flags().StringVar(&to, "to", "", "write the estate into this folder, which must be new or empty, and audit nothing")
	cmd.Flags().IntVar(&gateways, "gateways", 0, "with --to: make an estate of so many gateways instead, some with faults")
	cmd.Flags().Uint64Var(&seed, "seed", 1, "with --gateways: another estate for each number")
	cmd.Flags().StringVar(&faults, "faults", "", "with --gateways: write into this file, as CSV, what faults the estate has")
	return cmd
}

// makeEstate makes an estate in a folder, and writes down what faults it has.
func (a *app) makeEstate(ctx context.Context, to, faults string, gateways int, seed uint64) error {
	var made []demo.Fault
	err := writeOut(ctx, to, func(part string) error {
		folder := ""
		var err error
		made, err = demo.Make(gateways, seed, func(path string, data []byte) error {
			target := filepath.Join(part, filepath.FromSlash(path))
			if dir := filepath.Dir(target); dir != folder {
				if err := os.MkdirAll(dir, 0o755); err != nil {
					return err
				}
				folder = dir
			}
			return errors.Join(os.WriteFile(target, data, 0o644), ctx.Err())
		})
		return err
	})
	if err != nil {
		return err
	}
	if faults != "" {
		rows := [][]string{{"check", "gateway", "tunnel"}}
		for _, f := range made {
			rows = append(rows, []string{f.Check, f.Gateway, f.Tunnel})
		}
		var b bytes.Buffer
		if err := csv.NewWriter(&b).WriteAll(rows); err != nil {
			return err
		}
		if err := os.WriteFile(faults, b.Bytes(), 0o644); err != nil {
			return fmt.Errorf("%s cannot be written: %w", faults, err)
		}
	}
	fmt.Fprintf(a.out, "%s with %s in %s; next: toril audit %s\n",
		present.Plural(gateways, "gateway"), present.Plural(len(made), "fault"), to, to)
	return nil
}

// writeOut fills a folder that is new or empty: with all of it or nothing.
func writeOut(ctx context.Context, to string, fill func(part string) error) (err error) {
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
	if err := fill(part); err != nil {
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
