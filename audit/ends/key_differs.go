package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// KeyDiffers reports where the ends hold different pre-shared keys for each other, or one has none.
var KeyDiffers = &audit.Check{
	Name:     "ends/key-differs",
	Title:    "The ends hold different pre-shared keys",
	Severity: audit.High,
	Why:      "Both must use the same key for each other; which one a gateway uses depends on the owners configured for it.",
	Fix:      "Set the same key on both ends, with the identities of both as its owners.",
	Doc: audit.Doc{
		What: "The key that each end would use for the other, by its owners, is compared by a fingerprint. No key is shown. " +
			"Nothing is reported where only one end's keys were given.",
		Harm:    "AUTHENTICATION_FAILED under IKEv2; silence in IKEv1's main mode, as the responder cannot read the message.",
		Write:   "secrets { ike-quay { id-a = headland.example  id-b = quayside.example  secret = ... } } on both.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Key),
}
