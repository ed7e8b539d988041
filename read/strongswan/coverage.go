package strongswan

import (
	"slices"

	"toril/daemon"
	"toril/daemon/strongswan"
	"toril/read"
	"toril/read/table"
)

func swanctlCoverage() []read.Coverage {
	of := func(path string) *daemon.Section { return strongswan.Known.Section("swanctl.conf", path) }
	const connection = "connections.<conn>."
	return slices.Concat(
		[]read.Coverage{
			{Statement: "include", Use: read.Used},
			{Statement: "sections that refer to others (name : other)", Use: read.Used},
		},
		table.Covers(strongswan.Known, "swanctl.conf"),
		table.Ignored(of(strongswan.PathConn), connection),
		table.Ignored(of(strongswan.PathLocal), connection+"local*|remote*."),
		table.Ignored(of(strongswan.PathChild), connection+"children.<child>."),
		[]read.Coverage{
			{Statement: "secrets.ike*|ppk*.secret, id*", Use: read.Used},
			{Statement: "secrets.eap*|xauth*|ntlm*", Use: read.Irrelevant, Note: "passwords of users; hidden in every quote"},
			{
				Statement: "secrets.private*|rsa*|ecdsa*|pkcs8*|pkcs12*|token*",
				Use:       read.Irrelevant,
				Note:      "passwords of key files; hidden in every quote",
			},
			{Statement: "pools", Use: read.Irrelevant, Note: "virtual addresses"},
			{Statement: "authorities", Use: read.Used, Note: "which there are, and whether lists of revoked certificates are fetched"},
			{Statement: "further authentication rounds", Use: read.Left, Note: "only the first round of each side is judged"},
		},
	)
}
