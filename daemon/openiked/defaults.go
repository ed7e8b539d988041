package openiked

import (
	"toril/daemon"
	"toril/ike"
)

// Known is what is known of OpenIKED.
var Known = &daemon.Known{
	Daemon:   &Daemon,
	Versions: []string{"7.2", "7.4"},
	Systems:  []string{"Linux"},
	Defaults: defaults,
	Own: []daemon.Own{
		{What: "IKE", Proposals: func(string) []ike.Proposal { return Default(ike.IKE) }, Source: "asked of 7.2"},
		{What: "ESP", Proposals: func(string) []ike.Proposal { return Default(ike.ESP) }, Source: "iked.conf(5)"},
		{What: "Linux ESP", Proposals: func(string) []ike.Proposal { return linux(ike.ESP) }, Source: "asked of Debian's 7.2"},
		{What: "AH", Proposals: func(string) []ike.Proposal { return Default(ike.AH) }, Source: "iked.conf(5)"},
	},
}

// defaults are those of the pages of 7.2 and 7.4, which do not differ.
var defaults = daemon.Once(func() [][]daemon.Default {
	return [][]daemon.Default{
		daemon.Table("iked.conf", "", "iked.conf(5)", `
			ikev2 ~ IKEv2 alone, without aggressive mode; it tries for ever
			mode ~ passive: it waits for the peer, and installs no policy before
			encap = esp
			tmode = tunnel
			ipcomp ~ off
			local = any
			peer = any
			ikesa ~ the daemon's own
			childsa ~ the daemon's own
			srcid ~ the name of the host, or the address
			dstid ~ any
			ikeauth ~ a certificate or public key
			ikelifetime = 0
			lifetime = 3h
			bytes = 4G
			replay window = 64 # asked of 7.2
			couple ~ policies are installed
			mobike ~ on
			dpd_check_interval = 60`),
	}
})
