package json

import (
	"io"

	"toril/daemon"
	"toril/report"
)

// DaemonsSchema and DefaultsSchema name the contracts of the JSON forms of defaults: the list of daemons, and one of them.
const (
	DaemonsSchema  = "toril-daemons/1"
	DefaultsSchema = "toril-defaults/1"
)

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

// daemons lists the IKE daemons that are known, for programs.
func daemons(w io.Writer, all []*daemon.Known, _ report.Options) error {
	out := []daemonJSON{}
	for _, k := range all {
		out = append(out, daemonJSON{k.Daemon.Name, k.Versions, defaultsJSON(report.Changes(k))})
	}
	return encode(w, struct {
		Schema  string       `json:"schema"`
		Daemons []daemonJSON `json:"daemons"`
	}{DaemonsSchema, out})
}

// defaults writes what a daemon does where its configuration does not say, for programs; version "" is the newest.
func defaults(w io.Writer, k *daemon.Known, version string, _ report.Options) error {
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
