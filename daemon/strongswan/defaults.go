package strongswan

import (
	"toril/daemon"
	"toril/ike"
)

// Known is what is known of strongSwan.
var Known = &daemon.Known{
	Daemon:   &Daemon,
	Versions: []string{"5.9.1", "5.9.8", "6.0.1"},
	Defaults: defaults,
	Sections: sections,
	Own: []daemon.Own{
		{What: "IKE", Proposals: func(string) []ike.Proposal { return Unset(ike.IKE) }, Source: "asked of 5.9.8"},
		{What: "ESP", Proposals: func(string) []ike.Proposal { return Unset(ike.ESP) }, Source: "asked of 5.9.8"},
	},
}

const (
	swanctlPage = "swanctl.conf(5)"
	connPage    = "ipsec.conf(5)"
	charonPage  = "strongswan.conf(5)"
	asked       = "asked of 5.9.8"
)

// defaults are those of the pages of 5.9.1, 5.9.8 and 6.0.1; where only two pages can be told apart, the version is the later one's.
var defaults = daemon.Once(func() [][]daemon.Default {
	var out [][]daemon.Default
	for _, s := range sections() {
		out = append(out, s.Defaults())
	}
	return append(out,
		daemon.Table("strongswan.conf", "charon", charonPage, `
			prefer_configured_proposals = yes
			install_routes = yes
			replay_window = 32
			reuse_ikesa = yes
			make_before_break = no
			make_before_break@6.0.1 = yes
			i_dont_care_about_security_and_use_aggressive_mode_psk = no`),
	)
})
