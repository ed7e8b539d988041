// Package changes compares an estate, or a report of one, with an earlier one: which findings are new, gone and still there, and what has
// changed in meaning, not in text.
package changes

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
	"toril/source"
)

// Side is one of the two that are compared.
type Side struct {
	Name     string // as it was given
	Findings []Finding
	Tunnels  map[string]string // what becomes of each, by name
	Whole    *pair.Whole       // nil where only a report was given
}

// Finding is what is compared of a finding.
type Finding struct {
	ID       string
	Check    string
	Severity string
	Subject  string
	Message  string
	Place    string
	PartOf   string
	Accepted bool
	Possible bool // it is not certain
}

// Rank orders severities, the worst highest.
func (f Finding) Rank() int {
	s, err := audit.ParseSeverity(f.Severity)
	if err != nil {
		return -1
	}
	return int(s)
}

// Change is one thing that means something else now.
type Change struct {
	Subject string // "gateway", "gateway/connection", "gateway/connection/child", or a tunnel
	What    string // what is not as it was: the term of a setting, "forward", "route"
	Old     string // "" where it was not there
	New     string // "" where it is not there any more
	Says    string // in one sentence
	At      string // where it stands now, or stood: "path:line:column"
	Unsure  string // why it could not be told

	configured bool // both values are
}

// Diff is what the comparison came to.
type Diff struct {
	Old, New           string
	Added, Gone, Still []Finding // the worst first
	Tunnels            []Change  // what becomes of tunnels
	Meaning            []Change  // by gateway; none where a report was given in place of an estate
	Compared           bool      // estates were given, so that meanings could be compared
}

// Of makes a side of an audit of an estate.
func Of(name string, r *audit.Result, w *pair.Whole) *Side {
	s := &Side{Name: name, Tunnels: map[string]string{}, Whole: w}
	for _, f := range r.Findings {
		s.Findings = append(s.Findings, Finding{f.ID, f.Check, f.Severity.String(), f.Subject(), f.Sentence(), f.At.Place(), f.PartOf,
			f.Accepted != nil, f.Possible()})
	}
	for _, t := range r.Tunnels {
		s.Tunnels[t.Name] = t.Says()
	}
	return s
}

// Report makes a side of a report in JSON (docs/json.md). The error says what is wrong with it.
func Report(name string, data []byte) (*Side, error) {
	var d struct {
		Schema   string
		Findings []struct {
			ID, Check, Severity, Gateway, Tunnel, Connection, Child, Message string
			PartOf                                                           string `json:"part_of"`
			Unsure                                                           string
			Accepted                                                         *struct{}
			At                                                               struct {
				File         string
				Line, Column int
			}
		}
		Tunnels []struct{ Name, Says string }
	}
	if err := json.Unmarshal(data, &d); err != nil {
		return nil, fmt.Errorf("%s is no report: %w", name, err)
	}
	if d.Schema != "toril-audit/2" {
		return nil, errors.New(name + " is no report of toril audit --format json: its schema is not toril-audit/2")
	}
	s := &Side{Name: name, Tunnels: map[string]string{}}
	for _, f := range d.Findings {
		of := audit.Finding{Gateway: f.Gateway, Tunnel: f.Tunnel, Connection: f.Connection, Child: f.Child, Message: f.Message}
		s.Findings = append(s.Findings, Finding{f.ID, f.Check, f.Severity, of.Subject(), of.Sentence(),
			source.Pos{File: f.At.File, Line: f.At.Line, Col: f.At.Column}.String(), f.PartOf, f.Accepted != nil, f.Unsure != ""})
	}
	for _, t := range d.Tunnels {
		s.Tunnels[t.Name] = t.Says
	}
	return s, nil
}

// Compare compares two sides, settings by the table.
func Compare(before, after *Side, table []*settings.Row) *Diff {
	d := &Diff{Old: before.Name, New: after.Name}
	was := map[string]bool{}
	for _, f := range before.Findings {
		was[f.ID] = true
	}
	is := map[string]bool{}
	for _, f := range after.Findings {
		is[f.ID] = true
		if was[f.ID] {
			d.Still = append(d.Still, f)
		} else {
			d.Added = append(d.Added, f)
		}
	}
	for _, f := range before.Findings {
		if !is[f.ID] {
			d.Gone = append(d.Gone, f)
		}
	}
	for _, list := range [][]Finding{d.Added, d.Gone, d.Still} {
		slices.SortStableFunc(list, func(a, b Finding) int { return cmp.Compare(b.Rank(), a.Rank()) })
	}
	names := maps.Clone(before.Tunnels)
	maps.Copy(names, after.Tunnels)
	for _, name := range slices.Sorted(maps.Keys(names)) {
		old, had := before.Tunnels[name]
		now, has := after.Tunnels[name]
		switch {
		case !had:
			d.Tunnels = append(d.Tunnels, Change{Subject: name, What: "tunnel", New: now, Says: "tunnel added: " + now})
		case !has:
			d.Tunnels = append(d.Tunnels, Change{Subject: name, What: "tunnel", Old: old, Says: "tunnel removed"})
		case old != now:
			d.Tunnels = append(d.Tunnels, Change{Subject: name, What: "tunnel", Old: old, New: now, Says: old + " → " + now})
		}
	}
	if before.Whole != nil && after.Whole != nil {
		d.Compared = true
		c := &comparison{old: before.Whole, now: after.Whole, table: table}
		byName(before.Whole.Gateways, after.Whole.Gateways, func(g *model.Gateway) string { return g.Name }, c.gateway)
		d.Meaning = c.found
	}
	return d
}

// byName pairs what two lists have of the same name, in the order of the names; one of a pair is the zero value where it is only in the
// other. Of several with one name the first is taken.
func byName[T any](before, after []T, name func(T) string, do func(name string, old, now T, had, has bool)) {
	type both struct {
		old, now T
		had, has bool
	}
	all := map[string]*both{}
	for _, x := range before {
		if all[name(x)] == nil {
			all[name(x)] = &both{old: x, had: true}
		}
	}
	for _, x := range after {
		if b := all[name(x)]; b == nil {
			all[name(x)] = &both{now: x, has: true}
		} else if !b.has {
			b.now, b.has = x, true
		}
	}
	for _, n := range slices.Sorted(maps.Keys(all)) {
		b := all[n]
		do(n, b.old, b.now, b.had, b.has)
	}
}

// Adds reports whether a finding is new that stands by itself and has at least a severity.
func (d *Diff) Adds(least int) bool {
	return slices.ContainsFunc(d.Added, func(f Finding) bool { return f.Rank() >= least && !f.Accepted })
}

// Any reports whether anything changed.
func (d *Diff) Any() bool { return len(d.Added)+len(d.Gone)+len(d.Tunnels)+len(d.Meaning) > 0 }
