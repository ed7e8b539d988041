package tunnels

import (
	"cmp"
	"slices"
	"strings"

	"toril/audit"
	"toril/model/settings"
	"toril/negotiate"
)

// Judges are those of some checks that judge a setting: those that Mark needs.
func Judges(checks []*audit.Check) []*audit.Check {
	return slices.DeleteFunc(slices.Clone(checks), func(c *audit.Check) bool { return c.Setting == nil })
}

// Found is the worst that is wrong with a value.
type Found struct {
	ID       string // of the finding; of the one that it is a part of, where it is
	Check    string
	Severity audit.Severity
}

// Marks are what is wrong with values, by gateway, connection, child and setting.
type Marks map[value]*Found

// value is what is said of a setting.
type value struct {
	gateway, connection, child string
	setting                    *settings.Row
}

// MarksOf takes out of an audit what is wrong with values: findings of low or above whose check judges a setting.
func MarksOf(r *audit.Result, checks []*audit.Check) Marks {
	judges := map[string]*settings.Row{}
	for _, c := range checks {
		judges[c.Name] = c.Setting
	}
	out := Marks{}
	for _, f := range r.Findings { // the worst come first
		setting := judges[f.Check]
		if setting == nil || f.Severity < audit.Low || f.Accepted != nil {
			continue
		}
		found := &Found{cmp.Or(f.PartOf, f.ID), f.Check, f.Severity}
		note := func(connection, child string) {
			key := value{f.Gateway, connection, child, setting}
			if out[key] == nil {
				out[key] = found
			}
		}
		note(f.Connection, f.Child)
		for _, also := range f.AlsoIn {
			connection, child, _ := strings.Cut(also, "/")
			note(connection, child)
		}
	}
	return out
}

// Mark notes on views what is wrong with values, and what does not fit the other end, by the table of settings.
func Mark(views []View, found Marks, table []*settings.Row) {
	for _, v := range views {
		type of struct {
			setting *settings.Row
			child   string
		}
		differs := map[of]bool{}
		children := v.Tunnel.Children()
		for _, l := range negotiate.Lines(v.Tunnel, negotiate.Tunnel(v.Tunnel), table) {
			if l.Differs {
				differs[of{l.Setting, l.Child}] = true
				if peer := settings.Named(l.Setting.Peer); peer != nil {
					differs[of{peer, l.Child}] = true
				}
			}
		}
		for i := range v.Lines {
			l := &v.Lines[i]
			l.Differs = differs[of{l.Setting, l.Child}]
			for n, end := range v.Tunnel.Ends {
				key := value{end.Gateway.Name, end.Connection.Name, "", l.Setting}
				if l.Child != "" {
					for _, pair := range children {
						if mine := pair.Names()[n]; mine != "" && nameOfPair(pair) == l.Child {
							key.child = mine
						}
					}
				}
				if n < len(l.Cells) {
					l.Cells[n].Found = found[key]
				}
			}
		}
	}
}
