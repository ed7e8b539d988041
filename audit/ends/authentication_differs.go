package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// AuthenticationDiffers reports where the ends do not prove themselves as the other asks.
var AuthenticationDiffers = &audit.Check{
	Name:     "ends/authentication-differs",
	Title:    "The ends do not authenticate as each expects",
	Severity: audit.High,
	Why:      "Each end must authenticate by the method that the other is set to expect, in the mode that the other is set to use.",
	Fix:      "Set the same method for each end on both.",
	Suggest:  audit.ByPeople("which identity is right only people know: it is part of what both ends agreed on"),
	Doc: audit.Doc{
		What: "Methods (pre-shared key, certificate), IKEv1's main and aggressive mode, and whether the first child is made along " +
			"with the IKE SA (RFC 6023).",
		Harm:    "AUTHENTICATION_FAILED, which in the log looks like a wrong key.",
		Write:   "local { auth = psk } and remote { auth = psk } on both ends, or pubkey on both.",
		Sources: []string{"RFC 7296 section 2.15", "RFC 2409 section 5", "RFC 6023 section 3"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Method, negotiate.Childless),
}
