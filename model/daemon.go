package model

// Daemon is an IKE daemon: its name, and what it does that others do not, as far as negotiation and packets depend on it. daemon/<name>
// describes each one. The zero value is a daemon of which nothing is known.
type Daemon struct {
	Name string // as its makers write it
	// FixedPorts: it has sockets at its own ports alone, whatever local port a connection names.
	FixedPorts bool
	// FollowsV1: of IKEv1 it sends its proposals as they are, and as a responder takes the first of the initiator's that it has.
	FollowsV1 bool

	// StripsPrivate: under IKEv2 it neither sends nor takes algorithms whose numbers are for private use (1024 and above, RFC 7296 section
	// 3.3.2), unless an option says so, or its peer shows itself as one of its make.
	StripsPrivate bool

	Policies Policies
	Answers  Answers
	IDs      IDs
	Keys     Keys
	Certs    Certs
	Signs    Signs
	Children Children
	Hosts    Hosts
	Renews   Renews
}

// Policies say what a daemon puts into the kernel.
type Policies struct {
	// Routes: it puts routes to the remote networks of its policies into a table of its own.
	Routes bool
	// DropsLast: a policy that drops is below every one that protects, however narrow it is.
	DropsLast bool
	// ShuntsTrapped: a policy that lets pass or drops is put into the kernel only where the child is trapped; else wherever the child is
	// started at all.
	ShuntsTrapped bool
}

// Answers say which connection and which proposal a daemon takes as a responder.
type Answers struct {
	// GuardsAggressive: it takes IKEv1's aggressive mode with a pre-shared key only if its own options allow it.
	GuardsAggressive bool
	// AsksOne: it looks for the IKE proposals in the connection that fits the addresses best, and in no other.
	AsksOne bool
	// LatestFirst: it prefers, of connections that fit as well, the one that stands last.
	LatestFirst bool
	// JoinsByIdentity: it looks for a child in all connections that take the peer's address and have the same identities.
	JoinsByIdentity bool
	// JoinsAlike: of connections with the same peer it joins those alone that are alike in every setting of the IKE SA.
	JoinsAlike bool
	// Weighs: it takes, of the proposals that fit one of its own, the one whose algorithms stand furthest in front there.
	Weighs bool
	// FirstIsOne: it takes no proposals of which the first is not number 1.
	FirstIsOne bool
}

// IDs say which identities a daemon shows and takes.
type IDs struct {
	// AsksNoAddress: under IKEv2 it asks its peer for no identity that is an address.
	AsksNoAddress bool
	// AddressIsName: with no identity of its own it shows its address, whatever it is asked for.
	AddressIsName bool
	// TakesNamed: where the peer shows the subject of its certificate, it takes it for the name that it expects if the certificate has
	// that name too; and any identity where the certificate need name none (Party.Loose), of IKEv1 any subject.
	TakesNamed bool
	// NameInOrder: a distinguished name that is written in another order than a certificate has it is another one.
	NameInOrder bool
	// WritesT61: letters beyond ASCII in a distinguished name that is configured make it another type of string (T61String) than
	// certificates have it in, and another name.
	WritesT61 bool
	// MindsNotAsked: as a responder of IKEv2 it does not mind which identity it is asked for.
	MindsNotAsked bool
}

// Keys say how a daemon finds a pre-shared key.
type Keys struct {
	// OfBoth: a key that names several is for two ends that it both names; one that names one is that end's own, for any peer. Elsewhere
	// a key is for whom it names, at either end.
	OfBoth bool
	// Latest: of keys that fit equally well, the last in the file is taken.
	Latest bool
	// Tries: under IKEv2 it tries all keys that fit when it checks what its peer made with one.
	Tries bool
}

// Certs say which certificates a daemon asks for, sends and trusts.
type Certs struct {
	// AsksInTurn: it asks for the peer's certificate as a responder of IKEv2 and as an initiator of IKEv1, whatever is configured.
	AsksInTurn bool
	// MindsUsage: it takes no signature of a key whose certificate is for other uses alone (RFC 4945 section 5.1.3.2).
	MindsUsage bool
	// ByFile: a connection names certificates by their files.
	ByFile bool
	// FirstOnly: of a file it takes the first block alone, and that only where no byte order mark stands before it.
	FirstOnly bool
	// NeedsRoot: it trusts a chain only where that ends at a self-signed authority (RFC 5280 section 6.1 leaves it open).
	NeedsRoot bool
	// TakesOwn: it trusts a certificate of its peer that lies among its own, whoever signed it.
	TakesOwn bool
	// HeldFirst: where a certificate of its own names the identity that a peer shows, it takes that one for the peer's, whatever it sends.
	HeldFirst bool
	// OwnIntermediates: it takes no intermediate authorities from its peer.
	OwnIntermediates bool
	// SendsAsked: it sends the intermediate authorities, as far as it has them; none where it has one that it is asked for, and the chain
	// does not lead there.
	SendsAsked bool
	// SendsKey: asked for public keys too, it sends its own in place of a certificate, unless an authority that it has and is asked for
	// signed that.
	SendsKey bool
	// SendsToRoot: it sends the intermediate authorities where its chain ends at a self-signed one.
	SendsToRoot bool
	// WantsLists: where it has a list of revoked certificates, it trusts none whose authority has no list there, up to the
	// self-signed one.
	WantsLists bool
	// Folder is where the authorities lie that it trusts; "" for anywhere.
	Folder string
}

// Signs say how a daemon signs, and which signatures it takes.
type Signs struct {
	// TellsHashes: it tells its peer of the hashes alone that its connection allows (RFC 7427 section 4).
	TellsHashes bool
	// TellsAsked: so it does as an initiator.
	TellsAsked bool
	// HashByKey: it signs with the hash that is about as strong as its key, or with a stronger one.
	HashByKey bool
	// HashWithinCurve: with a key of ECDSA it signs with no hash that is longer than the curve.
	HashWithinCurve bool
	// Alike: as a responder it signs as the initiator did, where that is allowed.
	Alike bool
	// KeyDecidesV1: of IKEv1 it signs as the type of its key has it, and takes what its peer's has, whatever signatures are configured.
	KeyDecidesV1 bool
	// OneMethodV1: of IKEv1 it signs, and takes, RSASSA-PKCS1-v1_5 alone, where its connection allows RSA with any hash.
	OneMethodV1 bool
}

// Children say which child a daemon sets up.
type Children struct {
	// KeepsMode: a child comes up in its own mode, tunnel or transport, or not at all; under IKEv1 in the initiator's.
	KeepsMode bool
	// OwnMode: as a responder in tunnel mode it answers no initiator in transport mode.
	OwnMode bool
	// AnyTransport: it sets transport mode up whatever is protected, though only the gateways' own packets are carried in it.
	AnyTransport bool
	// WithinAsked: as an initiator it takes no selectors that are more than it asked for.
	WithinAsked bool
	// OwnSelectors: it protects what it is set to protect, whatever the peer says; as a responder it answers with that.
	OwnSelectors bool
	// NegotiatesShunts: what is to pass or to be dropped is set up in tunnel mode where somebody asks for it, as a child that protects.
	NegotiatesShunts bool
	// OrNone: under IKEv2 the IKE SA goes with the child that is made along with it, where that fails.
	OrNone bool
}

// Hosts say what a daemon does with selectors that are the gateways themselves, NAT being on the way.
type Hosts struct {
	// Replaces: in transport mode behind NAT it replaces host selectors by the addresses seen on the wire; of IKEv2 as an initiator too.
	Replaces bool
	// TakesV1: so it does as a responder of IKEv1, in any mode.
	TakesV1 bool
	// UnsaidV1: as an initiator of IKEv1 that is not behind NAT it sends no selectors where both are the gateways' own addresses, so that
	// the responder takes what it sees.
	UnsaidV1 bool
}

// Renews say how a daemon renews SAs.
type Renews struct {
	// Alike: under IKEv2 it renews a child with perfect forward secrecy as it is, with the key exchange of the IKE SA, whatever groups
	// its proposals name.
	Alike bool
	// NoSecondGroup: where a peer asks for another group as a child is renewed (INVALID_KE_PAYLOAD), it gives up. It sends the share of
	// the first group of its first proposal, and none where that has none.
	NoSecondGroup bool
	// KeepsNumber: an IKE SA that it set up it renews with the proposal that was chosen, under the number that it had (RFC 7296 section
	// 3.3.1 has the first one be number 1).
	KeepsNumber bool
	// HalfMargin: where it responded, it renews an SA by half the margin before its end.
	HalfMargin bool
}
