package settings

import (
	"fmt"
	"time"

	"toril/ike"
	"toril/model"
	"toril/present"
)

// The settings, in the order in which people work: addresses, identities, IKE, then what is protected, how, and when it is renewed.
var (
	OwnAddress = connection(
		Row{Name: "own-address", Term: "own address", Relation: Mirrored, Peer: "peer-address", Each: "address of %s", Main: true},
		func(c *model.Connection) *model.Setting[model.Addresses] { return &c.LocalAddrs },
		model.Addresses.String,
	)

	PeerAddress = connection(Row{Name: "peer-address", Term: "peer address", Relation: Mirrored, Peer: "own-address", Main: true},
		func(c *model.Connection) *model.Setting[model.Addresses] { return &c.RemoteAddrs }, model.Addresses.String)

	OwnPort = connection(
		Row{
			Name:     "own-port",
			Term:     "own IKE port",
			Relation: Mirrored,
			Peer:     "peer-port",
			Each:     "IKE port of %s",
			Standard: "RFC 7296, section 2",
		},
		func(c *model.Connection) *model.Setting[int] { return &c.LocalPort },
		present.Number[int]("any"),
	)

	PeerPort = connection(
		Row{Name: "peer-port", Term: "peer IKE port", Relation: Mirrored, Peer: "own-port", Standard: "RFC 7296, section 2"},
		func(c *model.Connection) *model.Setting[int] { return &c.RemotePort },
		present.Number[int]("any"),
	)

	OwnIdentity = connection(
		Row{
			Name:     "own-identity",
			Term:     "own identity",
			Relation: Mirrored,
			Peer:     "peer-identity",
			Each:     "identity of %s",
			Main:     true,
			Standard: "RFC 7296, section 3.5",
		},
		func(c *model.Connection) *model.Setting[ike.Identity] { return &c.Local.ID },
		ike.Identity.String,
	)

	PeerIdentity = connection(
		Row{
			Name:     "peer-identity",
			Term:     "peer identity",
			Relation: Mirrored,
			Peer:     "own-identity",
			Main:     true,
			Standard: "RFC 7296, section 3.5",
		},
		func(c *model.Connection) *model.Setting[ike.Identity] { return &c.Remote.ID },
		ike.Identity.String,
	)

	OwnAuthentication = connection(
		Row{
			Name:     "own-authentication",
			Term:     "authentication",
			Relation: Mirrored,
			Peer:     "peer-authentication",
			Each:     "%s authenticates",
			Main:     true,
			Standard: "RFC 7296, section 2.15",
		},
		func(c *model.Connection) *model.Setting[ike.Method] { return &c.Local.Method },
		ike.Method.String,
	)

	PeerAuthentication = connection(
		Row{
			Name:     "peer-authentication",
			Term:     "peer authentication",
			Relation: Mirrored,
			Peer:     "own-authentication",
			Standard: "RFC 7296, section 2.15",
		},
		func(c *model.Connection) *model.Setting[ike.Method] { return &c.Remote.Method },
		ike.Method.String,
	)

	OwnCertificates = connection(Row{Name: "own-certificates", Term: "own certificates", Standard: "RFC 7296, section 3.6"},
		func(c *model.Connection) *model.Setting[[]string] { return &c.Local.Certificates }, present.List("none"))

	PeerCertificates = connection(Row{Name: "peer-certificates", Term: "peer certificates", Standard: "RFC 7296, section 3.6"},
		func(c *model.Connection) *model.Setting[[]string] { return &c.Remote.Certificates }, present.List("any"))

	OwnCertificateSent = connection(
		Row{Name: "own-certificate-sent", Term: "own certificate sent", Standard: "RFC 7296, section 3.6"},
		func(c *model.Connection) *model.Setting[string] { return &c.SendCert },
		present.Text("not said"),
	)

	PeerCertificateAskedFor = connection(
		Row{Name: "peer-certificate-asked-for", Term: "peer certificate asked for", Standard: "RFC 7296, section 3.7"},
		func(c *model.Connection) *model.Setting[bool] { return &c.AskCert },
		yesNo,
	)

	PeerAuthorities = connection(Row{Name: "peer-authorities", Term: "authorities for the peer", Standard: "RFC 7296, section 3.7"},
		func(c *model.Connection) *model.Setting[[]string] { return &c.Remote.CAs }, present.List("any"))

	IKEVersion = connection(
		Row{Name: "ike-version", Term: "IKE version", Relation: Negotiated, Main: true, Standard: "RFC 7296, section 2.5"},
		func(c *model.Connection) *model.Setting[ike.Version] { return &c.Version },
		ike.Version.String,
	)

	IKEv1Mode = as(connection(
		Row{Name: "ikev1-mode", Term: "IKEv1 mode", Relation: Equal, Main: true, Standard: "RFC 2409, section 5"},
		func(c *model.Connection) *model.Setting[bool] { return &c.Aggressive },
		present.Choice("aggressive", "main"),
	), func(r *Row) { r.when = v1 })

	IKEProposals = as(
		connection(
			Row{Name: "ike-proposals", Term: "IKE proposals", Relation: Negotiated, Main: true, Standard: "RFC 7296, section 3.3"},
			func(c *model.Connection) *model.Setting[[]ike.Proposal] { return &c.Proposals },
			present.Proposals,
		),
		func(r *Row) { r.plain = names },
	)

	IKEKeyExchange = connection(
		Row{
			Name:     "ike-key-exchange",
			Term:     "key exchange",
			Relation: Negotiated,
			Main:     true,
			Derived:  true,
			Standard: "RFC 7296, section 3.4",
		},
		func(c *model.Connection) *model.Setting[[]ike.Proposal] { return &c.Proposals },
		func(ps []ike.Proposal) string { return present.Few(ike.All(ps, ike.KeyExchange)) },
	)

	PostQuantumKey = connection(
		Row{Name: "post-quantum-key", Term: "post-quantum pre-shared key", Relation: Equal, Standard: "RFC 8784"},
		func(c *model.Connection) *model.Setting[bool] { return &c.PPK },
		yesNo,
	)

	PostQuantumKeyRequired = connection(
		Row{Name: "post-quantum-key-required", Term: "post-quantum pre-shared key required", Standard: "RFC 8784, section 3"},
		func(c *model.Connection) *model.Setting[bool] { return &c.PPKRequired },
		yesNo,
	)

	IKELifetime = as(connection(
		Row{
			Name:     "ike-lifetime",
			Term:     "IKE lifetime",
			Relation: Shorter,
			Main:     true,
			Unit:     "s",
			Standard: "RFC 7296, section 2.8",
		},
		func(c *model.Connection) *model.Setting[time.Duration] { return &c.Rekey },
		present.SpanOr("never rekeyed"),
	), func(r *Row) { // whichever comes first, renewal or reauthentication
		r.get = func(s Subject) Shown {
			set := s.Connection.LifetimeSetting()
			set.Value = s.Connection.Lifetime()
			return shown(set, present.SpanOr("never rekeyed"))
		}
		r.said = func(s Subject) bool { return !s.Connection.LifetimeSetting().IsDefault() }
	})

	Reauthentication = connection(
		Row{Name: "reauthentication", Term: "reauthentication", Unit: "s", Standard: "RFC 7296, section 2.8.3"},
		func(c *model.Connection) *model.Setting[time.Duration] { return &c.Reauth },
		present.SpanOr("never"),
	)

	IKEOvertime = connection(
		Row{
			Name:     "ike-overtime",
			Term:     "IKE SA closed without renewal after a further",
			Unit:     "s",
			Standard: "RFC 7296, section 2.8",
		},
		func(c *model.Connection) *model.Setting[time.Duration] { return &c.Over },
		present.SpanOr("never closed"),
	)

	Liveness = connection(
		Row{Name: "liveness-check", Term: "liveness check", Main: true, Unit: "s", Standard: "RFC 7296, section 2.4"},
		func(c *model.Connection) *model.Setting[time.Duration] { return &c.DPD },
		every,
	)

	LivenessTimeout = as(connection(Row{Name: "liveness-timeout", Term: "liveness timeout", Unit: "s", Standard: "RFC 3706"},
		func(c *model.Connection) *model.Setting[time.Duration] { return &c.DPDTimeout }, spanNone), func(r *Row) { r.when = v1 })

	Encapsulation = as(
		connection(
			Row{Name: "encapsulation", Term: "encapsulation", Relation: Either, Main: true, Standard: "RFC 3948"},
			func(c *model.Connection) *model.Setting[bool] { return &c.Encap },
			present.Choice("always in UDP", "where NAT is seen"),
		),
		func(r *Row) {
			get := r.get
			r.get = func(s Subject) Shown {
				out := get(s)
				if s.Connection.NoEncap {
					out.Text = "never"
				}
				return out
			}
		},
	)

	MOBIKE = connection(Row{Name: "mobike", Term: "MOBIKE", Standard: "RFC 4555"},
		func(c *model.Connection) *model.Setting[bool] { return &c.MOBIKE }, onOff)

	Childless = connection(Row{Name: "childless", Term: "IKE SA without a child", Standard: "RFC 6023"},
		func(c *model.Connection) *model.Setting[string] { return &c.Childless }, present.Text("not said"))

	Fragmentation = More(Row{Name: "fragmentation", Term: "IKE fragmentation", Standard: "RFC 7383"})

	Attempts = connection(Row{Name: "attempts", Term: "attempts to set it up"},
		func(c *model.Connection) *model.Setting[int] { return &c.Tries }, present.Number[int]("for ever"))

	OwnNetworks = child(
		Row{
			Name:     "own-networks",
			Term:     "own networks",
			Relation: Mirrored,
			Peer:     "peer-networks",
			Each:     "networks of %s",
			Main:     true,
			Standard: "RFC 7296, section 2.9",
		},
		func(k *model.Child) *model.Setting[ike.Selectors] { return &k.Local },
		ike.Selectors.String,
	)

	PeerNetworks = child(
		Row{
			Name:     "peer-networks",
			Term:     "peer networks",
			Relation: Mirrored,
			Peer:     "own-networks",
			Main:     true,
			Standard: "RFC 7296, section 2.9",
		},
		func(k *model.Child) *model.Setting[ike.Selectors] { return &k.Remote },
		ike.Selectors.String,
	)

	ChildProposals = as(
		child(
			Row{
				Name:     "child-proposals",
				Term:     "ESP proposals",
				Relation: Negotiated,
				Main:     true,
				Standard: "RFC 7296, section 3.3",
			},
			func(k *model.Child) *model.Setting[[]ike.Proposal] { return &k.Proposals },
			present.Proposals,
		),
		func(r *Row) {
			r.plain = names
			r.label = func(s Subject) string { return s.Child.Protocol.Value.String() + " proposals" }
		},
	)

	PFS = as(child(Row{Name: "pfs", Term: "PFS", Relation: Negotiated, Main: true, Standard: "RFC 7296, section 1.3"},
		func(k *model.Child) *model.Setting[[]ike.Proposal] { return &k.Proposals }, present.PFS), func(r *Row) {
		r.plain = func(v any) string {
			if cs := ike.All(v.([]ike.Proposal), ike.KeyExchange); len(cs) > 0 {
				return cs.Labels()
			}
			return "none"
		}
	})

	Mode = child(Row{Name: "mode", Term: "mode", Relation: Negotiated, Main: true, Standard: "RFC 4301, section 3.2"},
		func(k *model.Child) *model.Setting[ike.Mode] { return &k.Mode }, ike.Mode.String)

	WholeNetworks = child(Row{Name: "whole-networks", Term: "other networks than these", Standard: "RFC 7296, section 2.9"},
		func(k *model.Child) *model.Setting[bool] { return &k.Whole },
		present.Choice("none: it narrows nothing", "narrowed to what both have"))

	ChildLifetime = child(
		Row{Name: "child-lifetime", Term: "lifetime", Relation: Shorter, Main: true, Unit: "s", Standard: "RFC 7296, section 2.8"},
		func(k *model.Child) *model.Setting[time.Duration] { return &k.Rekey },
		present.SpanOr("never rekeyed"),
	)

	ChildHardLifetime = child(
		Row{Name: "child-hard-lifetime", Term: "hard lifetime", Unit: "s", Standard: "RFC 4301, section 4.4.2.1"},
		func(k *model.Child) *model.Setting[time.Duration] { return &k.Life },
		spanNone,
	)

	ChildLifetimeBytes = child(
		Row{
			Name:     "child-lifetime-bytes",
			Term:     "lifetime in bytes",
			Relation: Shorter,
			Unit:     "bytes",
			Standard: "RFC 4301, section 4.4.2.1",
		},
		func(k *model.Child) *model.Setting[uint64] { return &k.RekeyBytes },
		present.Bytes("none"),
	)

	ChildHardLifetimeBytes = child(
		Row{
			Name:     "child-hard-lifetime-bytes",
			Term:     "hard lifetime in bytes",
			Unit:     "bytes",
			Standard: "RFC 4301, section 4.4.2.1",
		},
		func(k *model.Child) *model.Setting[uint64] { return &k.LifeBytes },
		present.Bytes("none"),
	)

	ChildLifetimePackets = child(
		Row{
			Name:     "child-lifetime-packets",
			Term:     "lifetime in packets",
			Relation: Shorter,
			Unit:     "packets",
			Standard: "RFC 4301, section 4.4.2.1",
		},
		func(k *model.Child) *model.Setting[uint64] { return &k.RekeyPackets },
		present.Number[uint64]("none"),
	)

	ChildHardLifetimePackets = child(
		Row{
			Name:     "child-hard-lifetime-packets",
			Term:     "hard lifetime in packets",
			Unit:     "packets",
			Standard: "RFC 4301, section 4.4.2.1",
		},
		func(k *model.Child) *model.Setting[uint64] { return &k.LifePackets },
		present.Number[uint64]("none"),
	)

	Inactivity = child(Row{Name: "inactivity", Term: "closed after inactivity of", Unit: "s"},
		func(k *model.Child) *model.Setting[time.Duration] { return &k.Inactivity }, spanOff)

	ReplayWindow = child(Row{Name: "replay-window", Term: "replay window", Unit: "packets", Standard: "RFC 4303, section 3.4.3"},
		func(k *model.Child) *model.Setting[int] { return &k.ReplayWindow }, present.Number[int]("off"))

	IPComp = child(Row{Name: "ipcomp", Term: "compression", Relation: Equal, Standard: "RFC 7296, section 2.22"},
		func(k *model.Child) *model.Setting[bool] { return &k.IPComp }, onOff)

	Cut96 = child(
		Row{Name: "hmac-sha256-cut", Term: "HMAC-SHA2-256", Relation: Equal, Standard: "RFC 4868, section 2.1"},
		func(k *model.Child) *model.Setting[bool] { return &k.Cut96 },
		present.Choice("cut to 96 bits, against the standard (RFC 4868)", "cut to 128 bits"),
	)

	InterfaceIn = child(Row{Name: "interface-in", Term: "interface identifier in"},
		func(k *model.Child) *model.Setting[uint32] { return &k.IfIDIn }, present.Number[uint32]("none"))

	InterfaceOut = child(Row{Name: "interface-out", Term: "interface identifier out"},
		func(k *model.Child) *model.Setting[uint32] { return &k.IfIDOut }, present.Number[uint32]("none"))

	MarkIn = child(Row{Name: "mark-in", Term: "mark in"},
		func(k *model.Child) *model.Setting[string] { return &k.MarkIn }, present.Text("none"))

	MarkOut = child(Row{Name: "mark-out", Term: "mark out"},
		func(k *model.Child) *model.Setting[string] { return &k.MarkOut }, present.Text("none"))

	Policies = child(Row{Name: "policies", Term: "policies in the kernel", Standard: "RFC 4301, section 4.4.1"},
		func(k *model.Child) *model.Setting[bool] { return &k.Policies }, yesNo)

	Start = child(Row{Name: "start", Term: "started", Main: true},
		func(k *model.Child) *model.Setting[model.Start] { return &k.Start }, model.Start.String)

	CloseAction = child(Row{Name: "close-action", Term: "when the peer closes it"},
		func(k *model.Child) *model.Setting[model.Start] { return &k.CloseAction }, model.Start.String)

	LivenessAction = child(Row{Name: "liveness-action", Term: "when the peer is dead"},
		func(k *model.Child) *model.Setting[string] { return &k.DPDAction }, present.Text("nothing"))

	OpensFilter = child(Row{Name: "opens-filter", Term: "opens the packet filter while it is up"},
		func(k *model.Child) *model.Setting[bool] { return &k.Opens }, yesNo)

	Script = child(Row{Name: "script", Term: "script that runs with it"},
		func(k *model.Child) *model.Setting[string] { return &k.Script }, present.Text("none"))
)

// What is laid beside settings, and is none: it follows from the packet filter, or lies elsewhere.
var (
	NATExemption = &Row{Name: "nat-exemption", Term: "NAT exemption", Of: OfChild, Derived: true}
	PreSharedKey = &Row{Name: "pre-shared-key", Term: "pre-shared key", Derived: true}
)

// All are all settings, in the order in which they stand above.
func All() []*Row {
	return []*Row{
		OwnAddress.Row, PeerAddress.Row, OwnPort.Row, PeerPort.Row, OwnIdentity.Row, PeerIdentity.Row,
		OwnAuthentication.Row, PeerAuthentication.Row, OwnCertificates.Row, PeerCertificates.Row, OwnCertificateSent.Row,
		PeerCertificateAskedFor.Row, PeerAuthorities.Row, IKEVersion.Row, IKEv1Mode.Row, IKEProposals.Row,
		IKEKeyExchange.Row, PostQuantumKey.Row, PostQuantumKeyRequired.Row, IKELifetime.Row, Reauthentication.Row,
		IKEOvertime.Row, Liveness.Row, LivenessTimeout.Row, Encapsulation.Row, MOBIKE.Row, Childless.Row,
		Fragmentation.Row, Attempts.Row, OwnNetworks.Row, PeerNetworks.Row, ChildProposals.Row, PFS.Row, Mode.Row,
		WholeNetworks.Row, ChildLifetime.Row, ChildHardLifetime.Row, ChildLifetimeBytes.Row, ChildHardLifetimeBytes.Row,
		ChildLifetimePackets.Row, ChildHardLifetimePackets.Row, Inactivity.Row, ReplayWindow.Row, IPComp.Row, Cut96.Row,
		InterfaceIn.Row, InterfaceOut.Row, MarkIn.Row, MarkOut.Row, Policies.Row, Start.Row, CloseAction.Row,
		LivenessAction.Row, OpensFilter.Row, Script.Row,
	}
}

// EachOf returns the term of a mirrored setting for one end.
func (r *Row) EachOf(end string) string { return fmt.Sprintf(r.Each, end) }
