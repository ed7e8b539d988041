package cli

import (
	"context"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"toril/internal/disk"
	"toril/report"
	"toril/report/forms"
)

// outputs is --output: files that results are written to, each in the form that its ending says, and --format for what is printed.
type outputs struct {
	form  *formFlag
	files []string
}

// addOutputs adds the flags of a command whose results may be written to files.
func addOutputs(cmd *cobra.Command, can func(report.Form) bool) *outputs {
	o := &outputs{form: addForm(cmd, "; of what is printed, or of a single --output", can)}
	cmd.Flags().StringArrayVarP(&o.files, "output", "o", nil,
		"file to write to instead of printing, in the form of its ending (.html, .json, .sarif, .junit.xml, .csv, .md, .txt); repeatable")
	return o
}

// written is a form and where it goes; "" is standard output.
type written struct {
	file string
	form report.Form
}

// plan says what is written where, before anything is read.
func (o *outputs) plan(cmd *cobra.Command) ([]written, error) {
	named := cmd.Flags().Changed("format")
	if len(o.files) == 0 {
		form, err := o.form.form()
		return []written{{"", form}}, err
	}
	if named && len(o.files) > 1 {
		return nil, fmt.Errorf("--format names one form, and there are %d --output: their endings say the forms", len(o.files))
	}
	var out []written
	for _, file := range o.files {
		form, err := forms.For(file, o.form.can)
		switch {
		case named:
			form, err = o.form.form()
		case file == "-":
			form, err = o.form.form()
		}
		if err != nil {
			return nil, err
		}
		if file == "-" {
			file = ""
		}
		if slices.ContainsFunc(out, func(w written) bool { return w.file == file }) {
			return nil, fmt.Errorf("--output %s is given twice", file)
		}
		out = append(out, written{file, form})
	}
	return out, nil
}

// write writes everything: what is printed and every file through a cleanWriter, whole or not at all.
func (a *app) write(ctx context.Context, plan []written, o report.Options, one func(report.Form, io.Writer, report.Options) error) error {
	for _, w := range plan {
		if w.file == "" {
			if err := one(w.form, a.out, o); err != nil {
				return err
			}
			continue
		}
		plain := o
		plain.Look = report.Look{Width: 100}
		err := disk.Replace(ctx, w.file, func(to io.Writer) error {
			d := &cleanWriter{to: to, tabs: a.tabs}
			if err := one(w.form, d, plain); err != nil {
				return err
			}
			return d.Close()
		})
		if err != nil {
			return err
		}
		fmt.Fprintf(a.err, "toril: wrote %s (%s)\n", w.file, w.form.Name)
	}
	return nil
}
