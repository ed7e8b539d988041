package fix

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"toril/daemon/libreswan"
	"toril/daemon/strongswan"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/syntax/sections"
)

// ipsecConf writes settings into ipsec.conf, of either daemon that has such a file.
type ipsecConf struct {
	g         *model.Gateway
	libreswan bool
}

// ipsecKeys are the keys of settings (ipsec.conf(5)): of strongSwan, and of Libreswan.
var ipsecKeys = sync.OnceValue(func() map[*settings.Row][2]string {
	return map[*settings.Row][2]string{
		settings.IKEProposals.Row:      {"ike", "ike"},
		settings.ChildProposals.Row:    {"esp", "esp"},
		settings.IKEVersion.Row:        {"keyexchange", "ikev2"},
		settings.IKELifetime.Row:       {"ikelifetime", "ikelifetime"},
		settings.ChildLifetime.Row:     {"lifetime", "salifetime"},
		settings.ChildHardLifetime.Row: {"lifetime", "salifetime"},
		settings.Liveness.Row:          {"dpddelay", "dpddelay"},
		settings.Start.Row:             {"auto", "auto"},
		settings.Mode.Row:              {"type", "type"},
		settings.IKEv1Mode.Row:         {"aggressive", "aggressive"},
		settings.ReplayWindow.Row:      {"replay_window", "replay-window"},
		settings.IPComp.Row:            {"compress", "compress"},
		settings.PFS.Row:               {"", "pfs"},
	}
})

func (w ipsecConf) set(x set) ([]Edit, error) {
	keys := ipsecKeys()[x.setting]
	key, between := keys[0], ","
	if w.libreswan {
		key = keys[1]
	}
	if key == "" {
		return nil, fmt.Errorf("%s is not a setting that Toril writes into ipsec.conf", x.setting.Name)
	}
	text, err := w.text(x, between)
	if err != nil {
		return nil, err
	}
	f := w.g.File(x.end.Connection.At.File)
	line, said := section(f, x.end.Connection.Name, key)
	if line == 0 {
		return nil, fmt.Errorf("%s: the section conn %s is not in this file", f.Path, x.end.Connection.Name)
	}
	var out []Edit
	if said == nil {
		out = append(out, behind(f, line, "\t", key+"="+text))
	} else {
		r, ok := valueOf(f, f.Statement(said.Line, said.Start, said.End))
		if !ok {
			return nil, fmt.Errorf("%s:%d: the statement has no value", f.Path, said.Line)
		}
		out = append(out, Edit{File: f.Path, Range: r, Text: text})
	}
	if x.setting == settings.Liveness.Row { // what it does when the peer is dead makes it a check at all
		more := [2]string{"dpdaction", "restart"}
		if w.libreswan {
			more = [2]string{"dpdtimeout", "120"}
		}
		if _, has := section(f, x.end.Connection.Name, more[0]); has == nil {

			out = append(out, behind(f, line, "\t", more[0]+"="+more[1]))
		}
	}
	return out, nil
}

// text writes a value as ipsec.conf(5) has it.
func (w ipsecConf) text(x set, between string) (string, error) {
	switch v := x.value.(type) {
	case []ike.Proposal:
		if w.libreswan {
			return joined(v, libreswan.Dialect{V1: x.end.Connection.Version.Value == ike.V1}.Write, between)
		}
		text, err := joined(v, strongswan.Write, between)
		return text + "!", err // without it the daemon adds proposals of its own
	case ike.Version:
		if w.libreswan {
			return "insist", nil
		}
		return fmt.Sprintf("ikev%d", v), nil
	case model.Start:
		if w.libreswan {
			return map[model.Start]string{model.StartTraffic: "ondemand", model.StartBoot: "start"}[v], nil
		}
		return map[model.Start]string{model.StartTraffic: "route", model.StartBoot: "start"}[v], nil
	case time.Duration:
		if x.setting == settings.Liveness.Row && w.libreswan {
			return fmt.Sprintf("%d", int(v.Seconds())), nil
		}
		return timeText(v), nil
	}
	return swanctlText(x.value)
}

// section returns the line of a connection's section, and the line on which it says a key; nil where it does not.
func section(f *model.File, name, key string) (line int, said *sections.Line) {
	if f == nil {
		return 0, nil
	}
	inside := false
	for l := range sections.Parse(f.Bytes()) {
		if l.Text == "" {
			continue
		}
		if !l.Indented {
			word, rest := l.Head()
			inside = word == "conn" && strings.TrimSpace(rest) == name
			if inside && line == 0 {
				line = l.Line
			}
			continue
		}
		if k, _, ok := l.Setting(); inside && ok && strings.EqualFold(k, key) {
			one := l
			said = &one
		}
	}
	return line, said
}
