package libreswan

import (
	"toril/daemon"
	"toril/ike"
)

// Known is what is known of Libreswan.
var Known = &daemon.Known{
	Daemon:   &Daemon,
	Versions: []string{"4.3", "4.10", "5.2"},
	Defaults: defaults,
	Sections: sections,
	Own: []daemon.Own{
		own("IKEv2", ike.IKE, false), own("IKEv1", ike.IKE, true),
		own("ESP, IKEv2", ike.ESP, false), own("ESP, IKEv1", ike.ESP, true),
		own("AH, IKEv2", ike.AH, false), own("AH, IKEv1", ike.AH, true),
	},
}

func own(what string, protocol ike.Protocol, v1 bool) daemon.Own {
	return daemon.Own{What: what, Source: "asked of 4.3, 4.10 and 5.2", Proposals: func(version string) []ike.Proposal {
		return Dialect{V1: v1, Version: version}.Default(protocol)
	}}
}

// defaults are those of the pages of 4.3, 4.10 and 5.2, and the versions of the daemon's list of changes.
var defaults = daemon.Once(func() [][]daemon.Default {
	return [][]daemon.Default{
		sections()[0].Defaults(),
		daemon.Table("ipsec.conf-libreswan", "config setup", "ipsec.conf(5)", `
			ikev1-policy = accept # list of changes, 5.0
			ikev1-policy@5.0 = drop # list of changes, 5.0; Debian's packages since 4.5`),
	}
})
