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
	return [][]daemon.Default{
		daemon.Table("swanctl.conf", "connections.<conn>", swanctlPage, `
			version = 0
			local_addrs = %any
			remote_addrs = %any
			local_port = 500
			remote_port = 500
			proposals ~ the daemon's own
			aggressive = no
			encap = no
			mobike = yes
			dpd_delay = 0s
			dpd_timeout = 0s
			childless = allow
			fragmentation = yes
			send_cert = ifasked
			send_certreq = yes
			ppk_id =
			ppk_required = no
			keyingtries = 1
			reauth_time = 0s
			rekey_time = 4h; never where only reauth_time is set
			over_time ~ 10% of the longer of rekey_time and reauth_time
			rand_time ~ over_time
			if_id_in = 0
			if_id_out = 0`),
		daemon.Table("swanctl.conf", "connections.<conn>.local", swanctlPage, `
			auth = pubkey
			id ~ the address, or the subject of the certificate
			certs =
			cacerts =
			pubkeys =
			revocation = relaxed`),
		daemon.Table("swanctl.conf", "connections.<conn>.remote", swanctlPage, `
			auth ~ any that the peer uses # asked of 5.9.8
			id ~ any
			certs =
			cacerts =
			pubkeys =
			revocation = relaxed`),
		daemon.Table("swanctl.conf", "connections.<conn>.local.cert", swanctlPage, "file ="),
		daemon.Table("swanctl.conf", "connections.<conn>.remote.cert", swanctlPage, "file ="),
		daemon.Table("swanctl.conf", "connections.<conn>.children.<child>", swanctlPage, `
			esp_proposals ~ the daemon's own
			ah_proposals =
			sha256_96 = no
			local_ts = dynamic
			remote_ts = dynamic
			rekey_time = 1h
			rekey_time@6.0.1 = 1h; life_time less 10% where only that is set
			life_time ~ rekey_time and 10%
			rand_time ~ life_time less rekey_time
			rekey_bytes = 0
			rekey_bytes@6.0.1 = 0; life_bytes less 10% where only that is set
			life_bytes ~ rekey_bytes and 10%
			rand_bytes = 0
			rekey_packets = 0
			rekey_packets@6.0.1 = 0; life_packets less 10% where only that is set
			life_packets ~ rekey_packets and 10%
			rand_packets = 0
			updown =
			hostaccess = no
			mode = tunnel
			policies = yes
			policies_fwd_out = no
			dpd_action = clear
			ipcomp = no
			inactivity = 0s
			mark_in =
			mark_out =
			if_id_in ~ the connection's
			if_id_out ~ the connection's
			replay_window ~ charon.replay_window
			start_action = none
			close_action = none`),
		daemon.Table("strongswan.conf", "charon", charonPage, `
			prefer_configured_proposals = yes
			install_routes = yes
			replay_window = 32
			reuse_ikesa = yes
			make_before_break = no
			make_before_break@6.0.1 = yes
			i_dont_care_about_security_and_use_aggressive_mode_psk = no`),
		daemon.Table("ipsec.conf", "conn", connPage, `
			keyexchange = ike
			left = %any
			leftallowany = no
			leftikeport = 500
			ike ~ the daemon's own
			aggressive = no
			forceencaps = no
			mobike = yes
			fragmentation = yes
			keyingtries = 3
			dpdaction = none
			dpddelay = 30s
			dpdtimeout = 150s
			ikelifetime = 3h
			rekey = yes
			reauth = yes
			margintime, rekeymargin = 9m
			rekeyfuzz = 100%
			if_id_in = 0
			if_id_out = 0
			authby = pubkey
			leftauth ~ authby
			leftid ~ the address, or the subject of the certificate
			leftcert =
			leftca =
			leftsigkey, leftrsasigkey =
			leftsendcert = ifasked
			esp ~ the daemon's own
			ah =
			leftsubnet = %dynamic
			leftprotoport =
			type = tunnel
			auto ~ ignore: the connection is not loaded
			closeaction = none
			lifetime, keylife = 1h
			lifebytes = 0
			marginbytes = 0
			lifepackets = 0
			marginpackets = 0
			replay_window ~ charon.replay_window
			compress = no
			sha256_96 = no
			installpolicy = yes
			inactivity = 0
			mark_in, mark =
			mark_out, mark =
			leftfirewall = no
			lefthostaccess = no
			leftupdown =`),
	}
})
