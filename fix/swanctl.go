package fix

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"toril/daemon/strongswan"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/source"
	"toril/syntax"
	"toril/syntax/braces"
)

// swanctl writes settings into swanctl.conf.
type swanctl struct{ g *model.Gateway }

// swanctlKeys are the keys of settings (swanctl.conf(5)).
var swanctlKeys = sync.OnceValue(func() map[*settings.Row]string {
	return map[*settings.Row]string{
		settings.IKEProposals.Row:      "proposals",
		settings.IKEVersion.Row:        "version",
		settings.IKEv1Mode.Row:         "aggressive",
		settings.Liveness.Row:          "dpd_delay",
		settings.PeerIdentity.Row:      "remote id",
		settings.ChildProposals.Row:    "esp_proposals",
		settings.IKELifetime.Row:       "rekey_time",
		settings.ChildLifetime.Row:     "rekey_time",
		settings.ChildHardLifetime.Row: "life_time",
		settings.Mode.Row:              "mode",
		settings.Start.Row:             "start_action",
		settings.ReplayWindow.Row:      "replay_window",
		settings.IPComp.Row:            "ipcomp",
	}
})

func (w swanctl) set(x set) ([]Edit, error) {
	c := x.end.Connection
	key, at, inherited := w.key(x)
	if key == "" {
		return nil, fmt.Errorf("%s is not a setting that Toril writes into swanctl.conf", x.setting.Name)
	}
	text, err := swanctlText(x.value)
	if err != nil {
		return nil, err
	}
	if !at.IsZero() && !inherited {
		f := w.g.File(at.File)
		if f == nil {
			return nil, fmt.Errorf("%s is not a file of %s", at.File, w.g.Name)
		}
		r, ok := valueOf(f, at)
		if !ok {
			return nil, fmt.Errorf("%s: the statement has no equals sign", at)
		}
		return []Edit{{File: f.Path, Range: r, Text: text}}, nil
	}
	section, path := c.At, []string{"connections", c.Name}
	if x.child != nil {
		section, path = x.child.At, append(path, "children", x.child.Name)
	}
	if inner, last, ok := strings.Cut(key, " "); ok {
		path, key = append(path, inner), last
	}
	f := w.g.File(section.File)
	line := opening(f, path)
	if line == 0 {
		return nil, fmt.Errorf("%s: the section %s is not in this file", section.File, strings.Join(path, "."))
	}
	if !strings.HasSuffix(strings.TrimSpace(cutComment(f.Line(line))), "{") {
		return nil, fmt.Errorf("%s:%d: the section does not begin at the end of its line", f.Path, line)
	}
	return []Edit{behind(f, line, "    ", key+" = "+text)}, nil
}

func cutComment(line string) string {
	line, _, _ = strings.Cut(line, "#")
	return line
}

// key returns the key of a setting, where it is said now, and whether by a section that others refer to as well.
func (w swanctl) key(x set) (key string, at source.Pos, inherited bool) {
	c, k := x.end.Connection, x.child
	said, _ := x.setting.Get(settings.Subject{Connection: c, Child: k})
	key = swanctlKeys()[x.setting]
	switch {
	case x.setting == settings.IKELifetime.Row && c.Reauth.Value > 0 && said.At == c.Reauth.At && !c.Reauth.IsDefault():
		key = "reauth_time"
	case x.setting == settings.ChildProposals.Row && k != nil && k.Protocol.Value == ike.AH:
		key = "ah_proposals"
	}
	return key, said.At, said.Origin == model.Inherited
}

// swanctlText writes a value as swanctl.conf(5) has it.
func swanctlText(value any) (string, error) {
	switch v := value.(type) {
	case []ike.Proposal:
		return joined(v, strongswan.Write, ", ")
	case time.Duration:
		return timeText(v), nil
	case ike.Version:
		return fmt.Sprint(uint8(v)), nil
	case ike.Identity:
		if strings.ContainsAny(v.String(), "#{}\",=\n") {
			return `"` + strings.ReplaceAll(v.String(), `"`, `\"`) + `"`, nil
		}
		return v.String(), nil
	case ike.Mode:
		return v.String(), nil
	case model.Start:
		words := [...]string{model.StartNever: "none", model.StartTraffic: "trap", model.StartBoot: "start", model.StartBoth: "trap|start"}
		return words[v], nil
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v], nil
	case int:
		return fmt.Sprint(v), nil
	}
	return "", fmt.Errorf("a value of %T is not one that Toril writes", value)
}

// opening returns the line on which a section begins, by the names of those that it is in; 0 where it is not in the file.
func opening(f *model.File, path []string) int {
	if f == nil {
		return 0
	}
	h := &finder{want: strings.Join(path, "\x00")}
	braces.Parse(f.Bytes(), h)
	return h.line
}

// finder looks for a section.
type finder struct {
	open []string
	want string
	line int
}

func (h *finder) Open(name string, _ []braces.Reference, at syntax.Place) {
	if h.open = append(h.open, name); h.line == 0 && strings.Join(h.open, "\x00") == h.want {
		h.line = at.Line
	}
}

func (h *finder) Close()                                { h.open = h.open[:max(0, len(h.open)-1)] }
func (*finder) Value(string, syntax.Word, syntax.Place) {}
func (*finder) Include(string, syntax.Place)            {}
func (*finder) Broken(int, string)                      {}
func (*finder) Unread(int, string, string)              {}
func (*finder) TooDeep(int)                             {}
