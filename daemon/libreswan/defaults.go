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
		daemon.Table("ipsec.conf-libreswan", "conn", "ipsec.conf(5)", `
			ikev2 = no # list of changes, 3.28
			ikev2@3.28 = yes # list of changes, 3.28
			keyexchange = ike # list of changes, 5.0
			keyexchange@5.0 = ikev2 # list of changes, 5.0
			left = %any
			leftikeport = 500
			ike ~ the daemon's own
			aggressive = no
			encapsulation, forceencaps = auto
			mobike = no
			fragmentation = yes
			keyingtries = %forever
			ppk = no
			dpddelay = 0
			dpdtimeout = 0
			ikelifetime = 1h # list of changes, 4.2
			ikelifetime@4.2 = 8h # list of changes, 4.2
			rekey = yes
			rekeymargin = 9m
			rekeyfuzz = 100%
			ipsec-interface = no
			vti-interface =
			leftvti =
			vti-routing = yes
			vti-shared = no
			authby = rsasig
			authby@4.10 = rsasig,ecdsa
			leftauth ~ authby
			leftid ~ the address
			leftcert =
			leftca =
			leftrsasigkey, leftecdsakey, leftpubkey, leftckaid =
			leftsendcert = always # seen with 4.10
			require-id-on-certificate = yes
			phase2 = esp
			esp, phase2alg, ah ~ the daemon's own
			leftsubnet ~ the address alone
			leftsubnets =
			leftprotoport =
			type = tunnel
			narrowing = no # seen with 4.10
			auto ~ ignore: the connection is not loaded
			dpdaction = hold
			salifetime, keylife, lifetime = 8h
			ipsec-max-bytes = 0
			ipsec-max-packets = 0
			replay-window = 32 # list of changes, 4.6
			replay-window@4.6 = 128 # list of changes, 4.6
			compress = no
			sha2-truncbug = no
			mark-in, mark =
			mark-out, mark =
			pfs = yes
			esn = no # list of changes, 4.6
			esn@4.6 = either # list of changes, 4.6`),
		daemon.Table("ipsec.conf-libreswan", "config setup", "ipsec.conf(5)", `
			ikev1-policy = accept # list of changes, 5.0
			ikev1-policy@5.0 = drop # list of changes, 5.0; Debian's packages since 4.5`),
	}
})
