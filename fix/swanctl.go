package fix

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"toril/daemon/strongswan"
	"toril/ike"
	"toril/model"
	"toril/source"
	"toril/syntax"
	"toril/syntax/braces"
)

// swanctl writes settings into swanctl.conf.
type swanctl struct{ g *model.Gateway }

// swanctlKeys are the keys of settings (swanctl.conf(5)).
var swanctlKeys = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"ike-proposals":       "proposals",
		"ike-version":         "version",
		"ikev1-mode":          "aggressive",
		"liveness-check":      "dpd_delay",
		"peer-identity":       "remote id",
		"child-proposals":     "esp_proposals",
		"child-lifetime":      "rekey_time",
		"child-hard-lifetime": "life_time",
		"mode":                "mode",
		"start":               "start_action",
		"replay-window":       "replay_window",
		"ipcomp":              "ipcomp",
	}
})

func (w swanctl) set(x set) ([]Edit, error) {
	c := x.end.Connection
	key, at, inherited := w.key(x)
	if key == "" {
		return nil, fmt.Errorf("%s is not a setting that Toril writes into swanctl.conf", x.name)
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
	of := func(p source.Pos, o model.Origin) (source.Pos, bool) { return p, o == model.Inherited }
	key = swanctlKeys()[x.name]
	switch x.name {
	case "ike-proposals":
		at, inherited = of(c.Proposals.At, c.Proposals.Origin)
	case "ike-version":
		at, inherited = of(c.Version.At, c.Version.Origin)
	case "ikev1-mode":
		at, inherited = of(c.Aggressive.At, c.Aggressive.Origin)
	case "liveness-check":
		at, inherited = of(c.DPD.At, c.DPD.Origin)
	case "peer-identity":
		at, inherited = of(c.Remote.ID.At, c.Remote.ID.Origin)
	case "ike-lifetime":
		s := c.LifetimeSetting()
		if key = "rekey_time"; c.Reauth.Value > 0 && s.At == c.Reauth.At && !c.Reauth.IsDefault() {
			key = "reauth_time"
		}
		at, inherited = of(s.At, s.Origin)
	}
	if k == nil {
		return key, at, inherited
	}
	switch x.name {
	case "child-proposals":
		if k.Protocol.Value == ike.AH {
			key = "ah_proposals"
		}
		at, inherited = of(k.Proposals.At, k.Proposals.Origin)
	case "child-lifetime":
		at, inherited = of(k.Rekey.At, k.Rekey.Origin)
	case "child-hard-lifetime":
		at, inherited = of(k.Life.At, k.Life.Origin)
	case "mode":
		at, inherited = of(k.Mode.At, k.Mode.Origin)
	case "start":
		at, inherited = of(k.Start.At, k.Start.Origin)
	case "replay-window":
		at, inherited = of(k.ReplayWindow.At, k.ReplayWindow.Origin)
	case "ipcomp":
		at, inherited = of(k.IPComp.At, k.IPComp.Origin)
	}
	return key, at, inherited
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

func (h *finder) Close()                           { h.open = h.open[:max(0, len(h.open)-1)] }
func (*finder) Value(string, string, syntax.Place) {}
func (*finder) Include(string, syntax.Place)       {}
func (*finder) Broken(int, string)                 {}
func (*finder) Unread(int, string, string)         {}
func (*finder) TooDeep(int)                        {}
