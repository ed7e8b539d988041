package text

import (
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/daemon"
	"toril/present"
	"toril/report"
)

// daemons lists the IKE daemons that are known, for people.
func daemons(w io.Writer, all []*daemon.Known, o report.Options) error {
	p := newPaper(w, o.Look)
	for _, k := range all {
		p.line("%s  %s", p.bold(k.Daemon.Name), present.Plural(len(k.In("")), "default"))
		p.line("  versions that were asked: %s", strings.Join(k.Versions, ", "))
		changed := report.Changes(k)
		for i, d := range changed {
			if i == 0 {
				p.line("  %s that changed:", present.Plural(len(changed), "default"))
			}
			p.line("    %s of %s: %s, %s", d.Name(), d.File, d.Text(), d.Change())
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
	first, third := 26, 30
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
	place, page := "", ""
	all := k.In(version)
	for i, d := range all {
		if here := strings.TrimSpace(d.File + "  " + d.Section); here != place {
			place, page = here, usualSource(all[i:])
			flush()
			p.line("")
			p.line("%s  %s", p.bold(here), p.dim(page))
		}
		value := d.Text()
		if change := d.Change(); change != "" {
			value += "\n" + change
		}
		from := d.Source
		if from == page {
			from = ""
		}
		tw.AppendRow(table.Row{strings.Join(append([]string{d.Key}, d.Also...), ", "), value, p.dim(from)})
	}
	flush()
	for _, o := range k.Own {
		p.line("")
		p.line("%s", p.bold("the daemon's own "+o.What+" proposals")+"  "+p.dim(o.Source))
		for _, one := range o.Proposals(version) {
			for i, l := range strings.Split(wrap(one.String(), p.look.Width-6), "\n") {
				p.line("%s%s", strings.Repeat(" ", 2+4*min(i, 1)), strings.TrimRight(l, " "))
			}
		}
	}
	return p.err
}

// usualSource returns the source of most defaults of the first one's section.
func usualSource(ds []daemon.Default) string {
	count, most := map[string]int{}, ""
	for _, d := range ds {
		if d.File != ds[0].File || d.Section != ds[0].Section {
			break
		}
		if count[d.Source]++; count[d.Source] > count[most] {
			most = d.Source
		}
	}
	return most
}
