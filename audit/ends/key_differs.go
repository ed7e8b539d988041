package ends

import (
	"toril/agree"
	"toril/audit"
)

// KeyDiffers speaks where the ends hold different pre-shared keys for each other, or one has none.
var KeyDiffers = &audit.Check{
	Name:     "ends/key-differs",
	Title:    "The ends hold different pre-shared keys",
	Severity: audit.High,
	Why:      "Both must take the same key for each other; which one a gateway takes depends on the owners that are written beside it.",
	Mend:     "Set the same key on both ends, with the identities of both as its owners.",
	Doc: audit.Doc{
		What:    "The key that each end would take for the other, by its owners, is compared by a fingerprint. No key is shown. Nothing is said where only one end's keys were given.",
		Harm:    "AUTHENTICATION_FAILED under IKEv2; silence in IKEv1's main mode, as the responder cannot read the message.",
		Write:   "secrets { ike-quay { id-a = headland.example  id-b = quayside.example  secret = ... } } on both.",
		Sources: []string{"RFC 7296 section 2.15"},
	},
	Tunnel: failing(agree.Key),
}
