package gendocs

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"toril/model/settings"
	"toril/read"
	"toril/read/formats"
	"toril/read/readtest"
)

// settingsPage describes the table of settings. Which formats can say a setting is seen from the samples below lab/formats, which their
// programs take.
func settingsPage(root string) (string, error) {
	said, err := sayings(filepath.Join(root, "lab/formats/samples"))
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString(
		"# Settings\n\nWritten by `go generate ./...` from `model/settings`, the one table over which `toril tunnels`, `ends` and " +
			"`mirror` run. A new setting is a row there, " +
			"and a word in each format that can say it.\n\n" +
			"Settings that are marked with ● are always shown; the others where an end says them. Which formats can say a " +
			"setting is seen from samples that their programs take (`lab/formats`).\n",
	)
	for _, level := range []settings.Level{settings.OfConnection, settings.OfChild} {
		fmt.Fprintf(
			&b,
			"\n## Of a %s\n\n| name | term | unit | two ends | standard | said in |\n| --- | --- | --- | --- | --- | --- |\n",
			level,
		)
		for _, r := range settings.All() {
			if r.Of != level {
				continue
			}
			name, relation := "`"+r.Name+"`", r.Relation.String()
			if r.Main {
				name += " ●"
			}
			if r.Peer != "" {
				relation += " with `" + r.Peer + "`"
			}
			if r.Derived {
				relation = "follows from others"
			}
			fmt.Fprintf(
				&b,
				"| %s | %s | %s | %s | %s | %s |\n",
				name,
				r.Term,
				r.Unit,
				relation,
				r.Standard,
				strings.Join(said[r.Name], ", "),
			)
		}
	}
	return b.String(), nil
}

// sayings returns, by setting, the formats of which a sample says it.
func sayings(folder string) (map[string][]string, error) {
	out := map[string][]string{}
	files, err := filepath.Glob(filepath.Join(folder, "*", "*"))
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		f := formatOf(filepath.Base(filepath.Dir(file)))
		if f == nil {
			continue
		}
		note := func(s settings.Subject, of settings.Level) {
			for _, r := range settings.All() {
				if v, ok := r.Get(s); ok && r.Of == of && !v.Default && !slices.Contains(out[r.Name], f.Name) {
					out[r.Name] = append(out[r.Name], f.Name)
				}
			}
		}
		for _, c := range readtest.Read(f, "sample", string(text), nil).Connections {
			note(settings.Subject{Connection: c}, settings.OfConnection)
			for _, k := range c.Children {
				note(settings.Subject{Connection: c, Child: k}, settings.OfChild)
			}
		}
	}
	for name := range out {
		slices.Sort(out[name])
	}
	return out, err
}

// formatOf returns the format of IKE daemons whose samples lie in a folder of a name; nil for others.
func formatOf(folder string) *read.Format {
	for _, f := range formats.All() {
		if strings.TrimSuffix(f.Name, ".conf") == folder || f.Name == folder {
			return f
		}
	}
	return nil
}
