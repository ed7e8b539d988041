package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// IdentityDiffers reports where one end shows an identity that the other does not expect.
var IdentityDiffers = &audit.Check{
	Name:     "ends/identity-differs",
	Title:    "An end sends an identity that the other does not expect",
	Severity: audit.High,
	Why:      "Identities are compared to the letter, and their type counts: a name is not the address that it stands for.",
	Fix:      "Configure the same identity, of the same type, on both ends.",
	Suggest:  audit.ByPeople("which identity is right only people know: it is part of what both ends agreed on"),
	Doc: audit.Doc{
		What:    "The identity that each end sends, its address where none is configured, is compared with the one that the other expects.",
		Harm:    "AUTHENTICATION_FAILED. Behind NAT the default, a private address, is never what the other end expects.",
		Write:   "Here local { id = headland.example }, there remote { id = headland.example }.",
		Sources: []string{"RFC 7296 section 3.5", "RFC 4945 section 3.1"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Identity),
}
