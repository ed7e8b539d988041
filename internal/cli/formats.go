package cli

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"toril/estate"
	"toril/internal/disk"
	"toril/read"
	"toril/report"
	"toril/report/text"
	"toril/source"
)

func (a *app) formats() *cobra.Command {
	var explain string
	var form *formFlag
	cmd := &cobra.Command{
		Use:     "formats",
		Example: "  toril formats\n  toril formats --explain estate/skerry/nftables.conf",
		Short:   "List the formats that can be read, or show with --explain why a file is read as one",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			known, err := a.known()
			if err != nil {
				return err
			}
			if cmd.Flags().Changed("explain") {
				if cmd.Flags().Changed("format") {
					return errors.New("--format is of the list, and --explain is about one file")
				}
				return a.explainFile(explain, known)
			}
			return as.Formats(a.out, known, report.Options{Look: a.look})
		},
	}
	form = addForm(cmd, ", of the list", func(f report.Form) bool { return f.Formats != nil })
	cmd.Flags().StringVar(&explain, "explain", "", "show which format this file is read as, and why")
	return a.withBooks(cmd)
}

// explainFile says what a file is taken for by its content and name alone: a toril.yaml may overrule it.
func (a *app) explainFile(name string, known []*read.Format) error {
	data, err := disk.ReadFile(name, estate.MaxFile)
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", name, err)
	}
	v := read.Recognise(known, source.NewFile(filepath.ToSlash(name), data))
	if err := text.Verdict(a.out, name, v, a.look); err != nil {
		return err
	}
	if v.Format == nil {
		return exit(exitFindings)
	}
	return nil
}
