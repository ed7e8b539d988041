package ends

import (
	"toril/audit"
	"toril/negotiate"
)

// Unreachable reports where the addresses of both ends do not lead to each other.
var Unreachable = &audit.Check{
	Name:     "ends/unreachable",
	Title:    "The ends do not use each other's addresses",
	Severity: audit.High,
	Why:      "The first packet goes to an address that does not respond, or comes from one that is not expected.",
	Fix:      "On each end, configure the address that the other sends from.",
	Doc: audit.Doc{
		What: "The address that one end sends to is compared with those that the other responds at, and the address that it sends " +
			"from with those that the other has a connection for. A private address against a public one is taken for NAT.",
		Harm: "The initiator tries for minutes and gives up; the log of the far end shows nothing, or that it has no connection " +
			"for the peer.",
		Write:   "Here remote_addrs = 198.51.100.7, there local_addrs = 198.51.100.7.",
		Sources: []string{"RFC 7296 section 2.1"},
	},
	Requires: audit.Negotiation,
	Tunnel:   failing(negotiate.Address),
}
