package report

import (
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"toril/daemon"
)

// DaemonsSchema and DefaultsSchema name the contracts of the JSON forms of defaults: the list of daemons, and one of them.
const (
	DaemonsSchema  = "toril-daemons/1"
	DefaultsSchema = "toril-defaults/1"
)

// DaemonsText lists the IKE daemons that are known, for people.
func DaemonsText(w io.Writer, all []*daemon.Known, look Look) error {
	p := newPaper(w, look)
	for _, k := range all {
		p.line("%s  %s", p.bold(k.Daemon.Name), plural(len(k.In("")), "default"))
		p.line("  versions that were asked: %s", strings.Join(k.Versions, ", "))
		changed := changes(k)
		for i, d := range changed {
			if i == 0 {
				p.line("  %s that changed:", plural(len(changed), "default"))
			}
			p.line("    %s of %s: %s, %s", d.Name(), d.File, d.Text(), changeText(d))
		}
	}
	p.line("")
	p.line("%s", p.dim("toril defaults DAEMON shows all of one, each with its source"))
	return p.err
}

// changes are the defaults of which versions differ.
func changes(k *daemon.Known) []daemon.Default {
	var out []daemon.Default
	for _, d := range k.In("") {
		if d.Before != nil {
			out = append(out, d)
		}
	}
	return out
}

// changeText says since when a default is what it is; "" where it always was.
func changeText(d daemon.Default) string {
	if d.Before == nil {
		return ""
	}
	return "since " + d.Since + "; before: " + d.Before.Text()
}

// DefaultsText writes what a daemon does where its configuration does not say, for people; version "" is the newest.
func DefaultsText(w io.Writer, k *daemon.Known, version string, look Look) error {
	p := newPaper(w, look)
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
		if change := changeText(d); change != "" {
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

type daemonJSON struct {
	Name     string        `json:"name"`
	Versions []string      `json:"versions"`
	Changed  []defaultJSON `json:"changed"`
}

type defaultJSON struct {
	File    string      `json:"file"`
	Section string      `json:"section"`
	Key     string      `json:"key"`
	Value   string      `json:"value"`
	Follows bool        `json:"follows"` // the value is in words: it follows from others
	Note    string      `json:"note"`
	Since   string      `json:"since"` // the first version that does so; "" for all that are known
	Source  string      `json:"source"`
	Before  *beforeJSON `json:"before"` // what earlier versions do; null where they do the same
}

type beforeJSON struct {
	Value string `json:"value"`
	Note  string `json:"note"`
}

func defaultsJSON(ds []daemon.Default) []defaultJSON {
	out := []defaultJSON{}
	for _, d := range ds {
		one := defaultJSON{
			File:    d.File,
			Section: d.Section,
			Key:     d.Key,
			Value:   d.Value,
			Follows: d.Computed,
			Note:    d.Note,
			Since:   d.Since,
			Source:  d.Source,
		}
		if d.Before != nil {
			one.Before = &beforeJSON{d.Before.Value, d.Before.Note}
		}
		out = append(out, one)
	}
	return out
}

// DaemonsJSON lists the IKE daemons that are known, for programs.
func DaemonsJSON(w io.Writer, all []*daemon.Known) error {
	out := []daemonJSON{}
	for _, k := range all {
		out = append(out, daemonJSON{k.Daemon.Name, k.Versions, defaultsJSON(changes(k))})
	}
	return encode(w, struct {
		Schema  string       `json:"schema"`
		Daemons []daemonJSON `json:"daemons"`
	}{DaemonsSchema, out})
}

// DefaultsJSON writes what a daemon does where its configuration does not say, for programs; version "" is the newest.
func DefaultsJSON(w io.Writer, k *daemon.Known, version string) error {
	type ownJSON struct {
		What      string   `json:"what"`
		Proposals []string `json:"proposals"`
		Source    string   `json:"source"`
	}
	own := []ownJSON{}
	for _, o := range k.Own {
		one := ownJSON{What: o.What, Proposals: []string{}, Source: o.Source}
		for _, p := range o.Proposals(version) {
			one.Proposals = append(one.Proposals, p.String())
		}
		own = append(own, one)
	}
	return encode(w, struct {
		Schema   string        `json:"schema"`
		Daemon   string        `json:"daemon"`
		Version  string        `json:"version"` // "" for the newest known
		Defaults []defaultJSON `json:"defaults"`
		Own      []ownJSON     `json:"own"`
	}{DefaultsSchema, k.Daemon.Name, version, defaultsJSON(k.In(version)), own})
}
