package model

// Daemon is an IKE daemon: its name, and what it does that others do not, as far as negotiation and packets depend on it. daemon/<name>
// describes each one. The zero value is a daemon of which nothing is known.
type Daemon struct {
	Name string // as its makers write it
	// Routes: it puts routes to the remote networks of its policies into a table of its own.
	Routes bool
	// ShuntsTrapped: a policy that lets pass or drops is put into the kernel only where the child is trapped; else wherever the child is
	// started at all.
	ShuntsTrapped bool
	// FixedPorts: it has sockets at its own ports alone, whatever local port a connection names.
	FixedPorts bool
	// GuardsAggressive: as responder it takes IKEv1's aggressive mode with a pre-shared key only if its own options allow it.
	GuardsAggressive bool
	// KeepsMode: a child comes up in its own mode, tunnel or transport, or not at all; under IKEv1 in the initiator's.
	KeepsMode bool
	// RenewsAlike: under IKEv2 it renews a child with perfect forward secrecy as it is, with the key exchange of the IKE SA, whatever
	// groups its proposals name.
	RenewsAlike bool
	// FollowsV1: of IKEv1 it sends its proposals as they are, and as a responder takes the first of the initiator's that it has.
	FollowsV1 bool
}
