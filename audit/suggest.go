package audit

import (
	"time"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
)

// Set is a setting and what it may be set to.
type Set struct {
	Setting *settings.Row
	Value   any // of the type that the setting takes
}

// To makes a Set.
func To[T any](s settings.Setting[T], v T) Set { return Set{s.Row, v} }

// RuleChange is a change of rules of a packet filter that may be what is missing.
type RuleChange uint8

// The changes.
const (
	ExemptEncrypted RuleChange = iota + 1 // what a policy encrypts, before the rule at fault
	ExemptOuter                           // ESP, before the rule at fault
	RemoveStatement                       // the statement at fault goes
	AcceptIKE                             // IKE and ESP of the peers
	LogAccepted                           // what the rule at fault accepts
	AcceptTooBig                          // messages that report packets as too big
	AcceptAnswers                         // answers, and what belongs to them
)

// Advice is what a check advises to write instead of what it finds. Whatever proves itself may be done by a tool: fix tries it.
type Advice struct {
	Sets  func(*Subject) []Set // settings, the strongest first, each of which may do by itself; nil for none
	Own   bool                 // the settings are the end's own: the far end's stay
	Rules []RuleChange
	Else  string // why there may be nothing that a tool can write; "" for what is said of the check's area
}

// Values advises to give a setting one of some values.
func Values[T any](s settings.Setting[T], values ...T) Advice {
	return Advice{Sets: func(*Subject) []Set {
		var out []Set
		for _, v := range values {
			out = append(out, To(s, v))
		}
		return out
	}}
}

// WithFar is advice that needs the far end's configuration.
func (a Advice) WithFar() Advice {
	a.Else = "the far end was not given, and both must change"
	return a
}

// Rules advises to change rules.
func Rules(changes ...RuleChange) Advice {
	return Advice{Rules: changes, Else: "the format of the rule is not one that Toril writes"}
}

// ByPeople is advice that no tool can follow; why says so.
func ByPeople(why string) Advice { return Advice{Else: why} }

// StrongIKE advises proposals for the IKE SA that every baseline of Toril's takes.
func StrongIKE(*Subject) []Set {
	var out []Set
	for _, p := range [][2]uint16{{6, 20}, {5, 19}, {7, 21}, {6, 15}} {
		q := ike.Proposal{Protocol: ike.IKE}
		q.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 20, 256)}
		q.Transforms[ike.PRF] = ike.Picks(ike.PRF, p[0])
		q.Transforms[ike.KeyExchange] = ike.Picks(ike.KeyExchange, p[1])
		out = append(out, To(settings.IKEProposals, []ike.Proposal{q}))
	}
	return out
}

// StrongChild advises proposals for a child that every baseline of Toril's takes.
func StrongChild(*Subject) []Set {
	var out []Set
	for _, g := range []uint16{20, 19, 21, 15} {
		q := ike.Proposal{Protocol: ike.ESP}
		q.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 20, 256)}
		q.Transforms[ike.KeyExchange] = ike.Picks(ike.KeyExchange, g)
		out = append(out, To(settings.ChildProposals, []ike.Proposal{q}))
	}
	return out
}

// GroupOfIKE advises those proposals for a child with the key exchange that the IKE SA prefers, and then as they are.
func GroupOfIKE(s *Subject) []Set {
	strong := StrongChild(s)
	if group := ike.FirstGroup(s.Connection.Proposals.Value); group.Algorithm != nil {
		q := strong[0].Value.([]ike.Proposal)[0]
		q.Transforms[ike.KeyExchange] = ike.Choices{group}
		strong = append([]Set{To(settings.ChildProposals, []ike.Proposal{q})}, strong...)
	}
	return strong
}

// Strong advises proposals of both kinds.
func Strong(s *Subject) []Set {
	if s.Child == nil {
		return StrongIKE(s)
	}
	return append(StrongChild(s), StrongIKE(s)...)
}

// SameLifetimes advises the shorter of the lifetimes of both ends.
func SameLifetimes(s *Subject) []Set {
	far, ok := s.Far()
	if !ok {
		return nil
	}
	if s.Child == nil {
		return []Set{To(settings.IKELifetime, min(s.Connection.Lifetime(), far.Connection.Lifetime()))}
	}
	var out []Set
	for _, k := range s.Tunnel.Counterparts(s.Child) {
		out = append(out, To(settings.ChildLifetime, min(s.Child.Rekey.Value, k.Rekey.Value)))
	}
	return out
}

// ByTraffic advises to have a child started by traffic: a policy then stands while there is no SA.
func ByTraffic(s *Subject) []Set {
	if s.Child == nil {
		return nil
	}
	if start := s.Child.Start.Value; start == model.StartBoot || start == model.StartBoth {
		return []Set{To(settings.Start, model.StartBoth)}
	}
	return []Set{To(settings.Start, model.StartTraffic)}
}

// PeerAsShown advises to expect the identity that the far end shows.
func PeerAsShown(s *Subject) []Set {
	far, ok := s.Far()
	if !ok {
		return nil
	}
	id, told := far.Shows(s.Tunnel.Own(far))
	if !told || !id.Definite() {
		return nil
	}
	return []Set{To(settings.PeerIdentity, id)}
}

// LivenessEvery is how often a peer's being alive is usually asked for.
const LivenessEvery = 30 * time.Second
