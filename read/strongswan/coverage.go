package strongswan

import (
	"maps"
	"slices"

	"toril/read"
)

func swanctlCoverage() []read.Coverage {
	var out []read.Coverage
	used := func(prefix string, names ...string) {
		for _, name := range names {
			out = append(out, read.Coverage{Statement: prefix + name, Use: read.Used})
		}
	}
	irrelevant := func(prefix string, names map[string]string) {
		for _, name := range slices.Sorted(maps.Keys(names)) {
			out = append(out, read.Coverage{Statement: prefix + name, Use: read.Irrelevant, Note: names[name]})
		}
	}
	used("", "include", "sections that refer to others (name : other)")
	used(
		"connections.*.",
		"version",
		"local_addrs",
		"remote_addrs",
		"local_port",
		"remote_port",
		"proposals",
		"aggressive",
		"encap",
		"mobike",
		"dpd_delay",
		"dpd_timeout",
		"childless",
		"ppk_id",
		"ppk_required",
		"keyingtries",
		"reauth_time",
		"rekey_time",
		"over_time",
		"rand_time",
		"if_id_in",
		"if_id_out",
	)
	irrelevant("connections.*.", irrelevantConnection)
	used("connections.*.local*|remote*.", "auth", "id", "certs", "cacerts", "cert*.file", "cacert*.file", "revocation", "pubkeys")
	irrelevant("connections.*.local*|remote*.", irrelevantParty)
	used(
		"connections.*.children.*.",
		"esp_proposals",
		"ah_proposals",
		"sha256_96",
		"local_ts",
		"remote_ts",
		"mode",
		"start_action",
		"close_action",
		"dpd_action",
		"rekey_time",
		"life_time",
		"rand_time",
		"rekey_bytes",
		"life_bytes",
		"rekey_packets",
		"life_packets",
		"replay_window",
		"ipcomp",
		"policies",
		"policies_fwd_out",
		"inactivity",
		"if_id_in",
		"if_id_out",
		"mark_in",
		"mark_out",
	)
	irrelevant("connections.*.children.*.", irrelevantChild)
	used("secrets.ike*|ppk*.", "secret", "id*")
	out = append(
		out,
		read.Coverage{Statement: "secrets.eap*|xauth*|ntlm*", Use: read.Irrelevant, Note: "passwords of users; hidden in every quote"},
		read.Coverage{
			Statement: "secrets.private*|rsa*|ecdsa*|pkcs8*|pkcs12*|token*",
			Use:       read.Irrelevant,
			Note:      "passwords of key files; hidden in every quote",
		},
		read.Coverage{Statement: "pools, authorities", Use: read.Irrelevant, Note: "virtual addresses; where revocation lists are"},
		read.Coverage{Statement: "further authentication rounds", Use: read.Left, Note: "only the first round of each side is judged"},
	)
	return out
}
