package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// spareInputs refuses what a command would write over what it reads: an output that is one of its inputs, or a file of a folder among them,
// and a folder to write to that lies in such a folder, where the next run would read what this one wrote.
func spareInputs(cmd *cobra.Command, args []string) error {
	inputs := slices.DeleteFunc(slices.Clone(args), func(a string) bool { return a == "-" })
	for _, name := range []string{"exceptions", "baseline"} {
		if f := cmd.Flags().Lookup(name); f != nil && f.Changed {
			inputs = append(inputs, f.Value.String())
		}
	}
	if cmd.Flags().Lookup("phrasebook") != nil {
		books, err := cmd.Flags().GetStringArray("phrasebook")
		if err != nil {
			return err
		}
		inputs = append(inputs, books...)
	}
	if cmd.Flags().Lookup("output") != nil {
		files, err := cmd.Flags().GetStringArray("output")
		if err != nil {
			return err
		}
		for _, file := range files {
			if info, err := os.Stat(file); err != nil || !info.Mode().IsRegular() { // nothing is written over
				continue
			}
			if in := holding(inputs, file); in != "" {
				return fmt.Errorf("--output %s would be written over what is read (%s); name another file", file, in)
			}
		}
	}
	for _, name := range []string{"apply", "cache"} {
		f := cmd.Flags().Lookup(name)
		if f == nil || f.Value.String() == "" {
			continue
		}
		if in := holding(inputs, f.Value.String()); in != "" {
			return fmt.Errorf(
				"--%s %s lies in what is read (%s), and the next run would read it; name a folder outside",
				name,
				f.Value,
				in,
			)
		}
	}
	return nil
}

// holding is the first of some inputs that is a path, or a folder that holds it; "" for none. Links are followed.
func holding(inputs []string, path string) string {
	to := real(path)
	for _, in := range inputs {
		info, err := os.Stat(in)
		if err != nil {
			continue
		}
		from := real(in)
		if from == to ||
			info.IsDir() && strings.HasPrefix(to, strings.TrimSuffix(from, string(filepath.Separator))+string(filepath.Separator)) {
			return in
		}
	}
	return ""
}

// real is a path without links, as far as it is there.
func real(path string) string {
	abs, err := filepath.Abs(path)
	if err != nil {
		return path
	}
	for rest := ""; ; {
		if r, err := filepath.EvalSymlinks(abs); err == nil {
			return filepath.Join(r, rest)
		}
		parent := filepath.Dir(abs)
		if parent == abs {
			return filepath.Join(abs, rest)
		}
		rest, abs = filepath.Join(filepath.Base(abs), rest), parent
	}
}
