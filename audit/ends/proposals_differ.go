package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// ProposalsDiffer reports where no proposal of both ends is the same.
var ProposalsDiffer = &audit.Check{
	Name:     "ends/proposals-differ",
	Title:    "The ends have no proposal in common",
	Severity: audit.High,
	Why: "Everything in one proposal must be the same: cipher with its key size, integrity, PRF, group. The response is " +
		"NO_PROPOSAL_CHOSEN.",
	Fix: "Configure the same strong proposal on both ends.",
	PartOf: []audit.Part{
		{Of: "ends/pfs-differs", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: audit.Strong}.WithFar(),
	Doc: audit.Doc{
		What: "The proposals of the IKE SA and of every child are negotiated for either initiator, IKEv2 by RFC 7296, IKEv1 by RFC " +
			"2409, in which only the first algorithm of each type is sent. " +
			"The closest two proposals are named, with the differences.",
		Harm:    "The IKE SA fails, or it comes up without a child: the log says established, and no packet passes.",
		Write:   "aes256gcm16-prfsha384-ecp384 for the IKE SA and aes256gcm16-ecp384 for the child, on both.",
		Sources: []string{"RFC 7296 section 2.7", "RFC 2409 section 5"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Proposals),
}
