package gendocs

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"toril/internal/cli"
)

// commandPages is a page for every command, by its path below docs/, and a list of them.
func commandPages() map[string]string {
	out := map[string]string{}
	var index strings.Builder
	index.WriteString(
		"# Commands\n\nWritten by `go generate ./...` from the program's own help.\n\n| command | what it does |\n| --- | --- |\n",
	)
	for _, c := range cli.Commands() {
		if c.Name() == "help" || c.Name() == "completion" || c.Parent().Name() == "completion" {
			continue
		}
		name := strings.ReplaceAll(strings.TrimPrefix(c.CommandPath(), "toril "), " ", "-") + ".md"
		fmt.Fprintf(&index, "| [%s](%s) | %s |\n", c.CommandPath(), name, c.Short)
		out["commands/"+name] = commandPage(c)
	}
	out["commands/README.md"] = index.String()
	return out
}

func commandPage(c *cobra.Command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s.\n\n    %s\n", c.CommandPath(), c.Short, c.UseLine())
	if c.Long != "" {
		fmt.Fprintf(&b, "\n%s\n", c.Long)
	}
	if c.Example != "" {
		b.WriteString("\n## Examples\n\nOn the demonstration estate, which `toril demo --to estate` writes out:\n\n")
		for line := range strings.Lines(c.Example) {
			b.WriteString("    " + strings.TrimSpace(line) + "\n")
		}
	}
	if c.HasSubCommands() {
		b.WriteString("\n## Commands\n\n")
		for _, sub := range c.Commands() {
			fmt.Fprintf(
				&b,
				"- [%s](%s.md): %s\n",
				sub.CommandPath(),
				strings.ReplaceAll(strings.TrimPrefix(sub.CommandPath(), "toril "), " ", "-"),
				sub.Short,
			)
		}
	}
	var flags strings.Builder
	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		name := "`--" + f.Name + "`"
		if f.Shorthand != "" {
			name += ", `-" + f.Shorthand + "`"
		}
		value := ""
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" {
			value = " (default `" + f.DefValue + "`)"
		}
		fmt.Fprintf(&flags, "| %s | %s%s |\n", name, strings.ReplaceAll(f.Usage, "|", `\|`), value)
	})
	if flags.Len() > 0 {
		b.WriteString("\n## Flags\n\n| flag | meaning |\n| --- | --- |\n" + flags.String())
	}
	return b.String()
}
