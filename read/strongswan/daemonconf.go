package strongswan

import (
	"toril/daemon/strongswan"
	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/read/literal"
	"toril/read/table"
	"toril/source"
)

// DaemonConf is the format of strongswan.conf: settings of the daemon as a whole.
var DaemonConf = &read.Format{
	Name:     "strongswan.conf",
	Comments: []string{"#"},
	Title:    "IKE daemon strongSwan: settings of the daemon as a whole",
	Software: software,
	Hints:    []string{"strongswan.conf", "charon.conf"},
	Order:    15,
	Looks:    looksLikeDaemonConf,
	Read:     readDaemonConf,
	Covers: read.Rows(
		read.Coverage{Statement: "charon.prefer_configured_proposals", Use: read.Used, Note: "whose order of proposals decides"},
		read.Coverage{Statement: "charon.install_routes", Use: read.Used},
		read.Coverage{Statement: "charon.replay_window", Use: read.Used, Note: "the default of children"},
		read.Coverage{Statement: "charon.reuse_ikesa", Use: read.Used},
		read.Coverage{Statement: "charon.i_dont_care_about_security_and_use_aggressive_mode_psk", Use: read.Used},
		read.Coverage{Statement: "everything else", Use: read.Irrelevant, Note: "logging, plugins, threads, sizes"},
	),
}

var charonOpens = lazy.NewSearch(`(?m)^[ \t]*(charon|charon-systemd|libstrongswan|swanctl|starter|pki)[ \t]*\{`)

func looksLikeDaemonConf(f *source.File) (int, string) {
	if m := charonOpens.FindSubmatch(f.Head()); m != nil {
		return 70, "it opens the section " + string(m[1])
	}
	return 0, ""
}

func readDaemonConf(in *read.Input) {
	root := parse(in)
	defaults := table.By(strongswan.Known, in.Gateway.VersionOf(software), "strongswan.conf", "charon")
	for _, s := range root.subs {
		if s.name != "charon" && s.name != "charon-systemd" {
			continue
		}
		var unsure bool
		f := &table.Section{
			In:       in,
			Values:   s.values,
			Software: software,
			Path:     s.name,
			Defaults: defaults,
			Scope:    "(daemon)",
			Unsure:   &unsure,
		}
		o := &in.Gateway.Options
		invert := func(t string) (bool, error) {
			b, err := literal.Bool(t)
			return !b, err
		}
		settle(f, &o.InitiatorDecides, invert, "prefer_configured_proposals")
		settle(f, &o.NoRoutes, invert, "install_routes")
		settle(f, &o.ReplayWindow, number, "replay_window")
		settle(f, &o.NoReuse, invert, "reuse_ikesa")
		settle(f, &o.AggressiveKeys, literal.Bool, "i_dont_care_about_security_and_use_aggressive_mode_psk")
	}
}

// replayWindow returns what strongswan.conf says of the window, in packets, or the daemon's default.
func replayWindow(g *model.Gateway) int {
	if o := g.Options.ReplayWindow; !o.IsDefault() {
		return o.Value
	}
	d := strongswan.Known.For(g.VersionOf(software), "strongswan.conf", "charon")["replay_window"]
	n, _ := number(d.Value)
	return n
}

// settle takes a setting only where it is said: several files may say parts.
func settle[T any](f *table.Section, to *model.Setting[T], parse func(string) (T, error), key string) {
	if set := table.TakeOr(f, to.Value, parse, key); !set.IsDefault() {
		*to = set
	}
}
