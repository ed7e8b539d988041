package ends

import (
	"toril/audit"
	"toril/ike"
	"toril/model/settings"
	"toril/negotiate"
)

// VersionDiffers reports where one end uses a version of IKE that the other does not.
var VersionDiffers = &audit.Check{
	Name:     "ends/version-differs",
	Title:    "The ends use different IKE versions",
	Severity: audit.High,
	Why:      "A daemon set to one version does not respond to the other.",
	Fix:      "Set IKEv2 on both ends.",
	Suggest:  audit.Values(settings.IKEVersion, ike.V2).WithFar(),
	Doc: audit.Doc{
		What: "The version that each end initiates with is compared with those that the other accepts. An end that accepts both " +
			"initiates with IKEv2.",
		Harm: "Where one end accepts both and the other only IKEv1, the tunnel comes up from one side only: after an outage it is " +
			"down until that side initiates.",
		Write:   "version = 2 on both.",
		Sources: []string{"RFC 7296 section 2.5"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Version, negotiate.Refused),
}
