package text

import (
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/daemon"
	"toril/report"
)

// daemons lists the IKE daemons that are known, for people.
func daemons(w io.Writer, all []*daemon.Known, o report.Options) error {
	p := newPaper(w, o.Look)
	for _, k := range all {
		p.line("%s  %s", p.bold(k.Daemon.Name), report.Plural(len(k.In("")), "default"))
		p.line("  versions that were asked: %s", strings.Join(k.Versions, ", "))
		changed := report.Changes(k)
		for i, d := range changed {
			if i == 0 {
				p.line("  %s that changed:", report.Plural(len(changed), "default"))
			}
			p.line("    %s of %s: %s, %s", d.Name(), d.File, d.Text(), report.ChangeText(d))
		}
	}
	p.line("")
	p.line("%s", p.dim("toril defaults DAEMON shows all of one, each with its source"))
	return p.err
}

// defaults writes what a daemon does where its configuration does not say, for people; version "" is the newest.
func defaults(w io.Writer, k *daemon.Known, version string, o report.Options) error {
	p := newPaper(w, o.Look)
	shown := version
	if version == "" {
		shown = k.Versions[len(k.Versions)-1] + ", the newest that was asked"
	}
	p.line("%s %s", p.bold(k.Daemon.Name), shown)
	if version != "" && daemon.Compare(version, k.Versions[0]) < 0 {
		p.line("%s", p.dim("older than "+k.Versions[0]+", the oldest that was asked: more may differ"))
	}
	if version != "" && daemon.Compare(version, k.Versions[len(k.Versions)-1]) > 0 {
		p.line("%s", p.dim("newer than "+k.Versions[len(k.Versions)-1]+", the newest that was asked: more may differ"))
	}
	first, third := 22, 30
	second := max(24, p.look.Width-first-third-9)
	tw := table.NewWriter()
	flush := func() {
		if tw.Length() > 0 {
			p.line("%s", tw.Render())
		}
		tw = table.NewWriter()
		tw.SetStyle(plainStyle)
		tw.SetColumnConfigs(
			[]table.ColumnConfig{
				{Number: 1, WidthMin: first, WidthMax: first, WidthMaxEnforcer: wrap},
				{Number: 2, WidthMin: second, WidthMax: second, WidthMaxEnforcer: wrap},
				{Number: 3, WidthMax: third, WidthMaxEnforcer: wrap},
			},
		)
	}
	place := ""
	for _, d := range k.In(version) {
		if here := strings.TrimSpace(d.File + "  " + d.Section); here != place {
			place = here
			flush()
			p.line("")
			p.line("%s", p.bold(here))
		}
		value := d.Text()
		if change := report.ChangeText(d); change != "" {
			value += "\n" + change
		}
		tw.AppendRow(table.Row{d.Key, value, p.dim(d.Source)})
	}
	flush()
	for _, o := range k.Own {
		p.line("")
		p.line("%s", p.bold("the daemon's own "+o.What+" proposals")+"  "+p.dim(o.Source))
		for _, one := range o.Proposals(version) {
			p.block(0, "", one.String())
		}
	}
	return p.err
}
