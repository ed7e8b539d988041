package tunnels

import (
	"strings"

	"toril/audit"
	"toril/model/settings"
	"toril/negotiate"
)

// Mark notes on views what does not fit the other end, by the table of settings, and what an audit finds wrong with a value: findings of
// low
// or above whose check judges that very setting.
func Mark(views []View, r *audit.Result, checks []*audit.Check, table []settings.Row) {
	judges := map[string]string{}
	for _, c := range checks {
		judges[c.Name] = c.Setting
	}
	found := map[[4]string]*audit.Finding{} // by gateway, connection, child and setting; the worst comes first
	for i := range r.Findings {
		f := &r.Findings[i]
		setting := judges[f.Check]
		if setting == "" || f.Severity < audit.Low || f.Accepted != nil {
			continue
		}
		note := func(connection, child string) {
			key := [4]string{f.Gateway, connection, child, setting}
			if found[key] == nil {
				found[key] = f
			}
		}
		note(f.Connection, f.Child)
		for _, also := range f.AlsoIn {
			connection, child, _ := strings.Cut(also, "/")
			note(connection, child)
		}
	}
	for _, v := range views {
		differs := map[[2]string]bool{} // by setting and child
		children := v.Tunnel.Children()
		for _, l := range negotiate.Lines(v.Tunnel, negotiate.Tunnel(v.Tunnel), table) {
			if l.Differs {
				differs[[2]string{l.Setting, l.Child}] = true
				if r := settings.Named(table, l.Setting); r != nil && r.Peer != "" {
					differs[[2]string{r.Peer, l.Child}] = true
				}
			}
		}
		for i := range v.Lines {
			l := &v.Lines[i]
			l.Differs = differs[[2]string{l.Setting, l.Child}]
			for n, end := range v.Tunnel.Ends {
				key := [4]string{end.Gateway.Name, end.Connection.Name, "", l.Setting}
				if l.Child != "" {
					for _, pair := range children {
						if mine := [...]string{nameOf(pair.A), nameOf(pair.B)}[n]; mine != "" && nameOfPair(pair) == l.Child {
							key[2] = mine
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
