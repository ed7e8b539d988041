package ends

import (
	"toril/agree"
	"toril/audit"
)

// Unreachable speaks where the addresses of both ends do not lead to each other.
var Unreachable = &audit.Check{
	Name:     "ends/unreachable",
	Title:    "The ends do not look for each other where they are",
	Severity: audit.High,
	Why:      "The first packet goes where nobody answers, or comes from where nobody is expected.",
	Mend:     "Write on each end the address that the other speaks from.",
	Doc: audit.Doc{
		What:    "The address that one end sends to is compared with those that the other answers at, and the address that it speaks from with those that the other has a connection for. A private address against a public one is taken for NAT.",
		Harm:    "The initiator tries for minutes and gives up; the log of the far end shows nothing, or that it has no connection for the peer.",
		Write:   "Here remote_addrs = 198.51.100.7, there local_addrs = 198.51.100.7.",
		Sources: []string{"RFC 7296 section 2.1"},
	},
	Tunnel: failing(agree.Address),
}

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

// ProposalsDiffer speaks where no proposal of both ends is the same.
var ProposalsDiffer = &audit.Check{
	Name:     "ends/proposals-differ",
	Title:    "The ends have no proposal in common",
	Severity: audit.High,
	Why:      "Everything in one proposal must be the same: cipher with its key size, integrity, PRF, group. The answer is NO_PROPOSAL_CHOSEN.",
	Mend:     "Write one strong proposal the same on both ends.",
	Doc: audit.Doc{
		What: "The proposals of the IKE SA and of every child are negotiated for either initiator, IKEv2 by RFC 7296, IKEv1 by RFC 2409, in which only the first algorithm of each type is sent. " +
			"The nearest two proposals are named, with what differs between them.",
		Harm:    "The IKE SA fails, or it comes up and stands without a child: the log says established, and no packet passes.",
		Write:   "aes256gcm16-prfsha384-ecp384 for the IKE SA and aes256gcm16-ecp384 for the child, on both.",
		Sources: []string{"RFC 7296 section 2.7", "RFC 2409 section 5"},
	},
	Tunnel: failing(agree.Proposals),
}

// AuthenticationDiffers speaks where the ends do not prove themselves as the other asks.
var AuthenticationDiffers = &audit.Check{
	Name:     "ends/authentication-differs",
	Title:    "The ends do not authenticate as the other expects",
	Severity: audit.High,
	Why:      "Each end must prove itself by the method that the other is told to ask for, in the mode that it is told to use.",
	Mend:     "Set the same method for each end on both.",
	Doc: audit.Doc{
		What:    "Methods (pre-shared key, certificate), IKEv1's main and aggressive mode, and whether the first child is made along with the IKE SA (RFC 6023).",
		Harm:    "AUTHENTICATION_FAILED, which in the log looks like a wrong key.",
		Write:   "local { auth = psk } and remote { auth = psk } on both ends, or pubkey on both.",
		Sources: []string{"RFC 7296 section 2.15", "RFC 2409 section 5", "RFC 6023 section 3"},
	},
	Tunnel: failing(agree.Method, agree.Childless),
}

// IdentityDiffers speaks where one end shows an identity that the other does not expect.
var IdentityDiffers = &audit.Check{
	Name:     "ends/identity-differs",
	Title:    "An end shows another identity than the other expects",
	Severity: audit.High,
	Why:      "Identities are compared to the letter, and their type counts: a name is not the address that it stands for.",
	Mend:     "Write the same identity, of the same type, on both ends.",
	Doc: audit.Doc{
		What:    "The identity that each end shows, which is its address where nothing is said, is compared with the one that the other expects.",
		Harm:    "AUTHENTICATION_FAILED. Behind NAT the default, a private address, is never what the other end expects.",
		Write:   "Here local { id = headland.example }, there remote { id = headland.example }.",
		Sources: []string{"RFC 7296 section 3.5", "RFC 4945 section 3.1"},
	},
	Tunnel: failing(agree.Identity),
}

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
