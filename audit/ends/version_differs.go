package ends

import (
	"toril/agree"
	"toril/audit"
)

// VersionDiffers speaks where one end speaks a version of IKE that the other does not.
var VersionDiffers = &audit.Check{
	Name:     "ends/version-differs",
	Title:    "The ends speak different versions of IKE",
	Severity: audit.High,
	Why:      "A daemon that is set to one version does not answer the other.",
	Mend:     "Set IKEv2 on both ends.",
	Doc: audit.Doc{
		What:    "The version that each end begins with is compared with those that the other answers. An end that takes both begins with IKEv2.",
		Harm:    "Where one end takes both and the other only IKEv1, the tunnel comes up from one side only: after an outage it is down until that side begins.",
		Write:   "version = 2 on both.",
		Sources: []string{"RFC 7296 section 2.5"},
	},
	Tunnel: failing(agree.Version, agree.Refused),
}
