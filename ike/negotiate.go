package ike

import (
	"slices"
	"strings"
	"sync"
)

// Suite is what two ends agree on for one SA: of every type of transform one, or none (a Choice without Algorithm).
type Suite struct {
	Protocol   Protocol
	Transforms [Types + 1]Choice
}

// ESN reports whether extended sequence numbers were agreed on.
func (s Suite) ESN() bool { return s.Transforms[Sequence].Algorithm != nil }

// Valid reports whether anything was agreed on: a cipher, or, for AH, an integrity algorithm.
func (s Suite) Valid() bool {
	return s.Transforms[Encryption].Algorithm != nil || s.Transforms[Integrity].Algorithm != nil
}

// All returns the transforms of the suite but for sequence numbers, in the order in which types are shown.
func (s Suite) All() Choices {
	var out Choices
	for _, r := range order {
		if c := s.Transforms[r]; c.Algorithm != nil && r != Sequence {
			out = append(out, c)
		}
	}
	return out
}

// String returns the everyday names of the suite, types divided by " / ".
func (s Suite) String() string {
	var out []string
	for _, c := range s.All() {
		out = append(out, c.Label())
	}
	if s.ESN() {
		out = append(out, "ESN")
	}
	return strings.Join(out, " / ")
}

// Strength returns the security of the suite in bits against a classical adversary: that of its weakest transform, where
// the key exchanges together are as strong as the strongest of them (RFC 9370 section 1.2).
func (s Suite) Strength() int {
	least, exchange := -1, -1
	for _, c := range s.All() {
		n := c.Strength()
		switch {
		case c.Registry.Exchanges():
			exchange = max(exchange, n)
		case least < 0 || n < least:
			least = n
		}
	}
	if exchange >= 0 && (least < 0 || exchange < least) {
		least = exchange
	}
	return max(0, least)
}

// Preference is what decides which suite a responder takes.
type Preference uint8

// The preferences.
const (
	OwnOrder  Preference = iota // the order of its own proposals, and of the algorithms in each
	PeerOrder                   // the initiator's order
	ByWeight                    // its own proposals in order, and of the initiator's that fit one those whose algorithms it has in front
)

// Choose picks the suite as a responder does (RFC 7296 section 2.7): for each of its own proposals, for each of the
// initiator's, the first pair that has something of every type in common, and of that the first in its own order; or as the
// preference says. offered is the index of the initiator's proposal.
func Choose(responder, initiator []Proposal, by Preference) (s Suite, offered int, ok bool) {
	if by == PeerOrder {
		for i, mine := range initiator {
			for _, own := range responder {
				if s, ok := mine.Agree(own); ok {
					return s, i, true
				}
			}
		}
		return s, 0, false
	}
	for _, own := range responder {
		least := 0
		for i, mine := range initiator {
			one, common := own.Agree(mine)
			if !common {
				continue
			}
			if by == OwnOrder {
				return one, i, true
			}
			if n := own.weight(one); !ok || n < least {
				s, offered, ok, least = one, i, true, n
			}
		}
		if ok {
			return s, offered, true
		}
	}
	return s, 0, false
}

// weights are what a place further back counts, by type (asked of OpenIKED 7.2).
var weights = map[Registry]int{Encryption: 3, Integrity: 3, KeyExchange: 2, PRF: 1, Sequence: 1}

// weight is more the further back the algorithms of a suite stand in a proposal.
func (p Proposal) weight(s Suite) (n int) {
	for _, r := range order {
		for at, c := range p.Transforms[r] {
			chosen := s.Transforms[r]
			if chosen.Algorithm != nil && c.Same(chosen) || chosen.Algorithm == nil && c.ID == 0 {
				n += 1 + weights[r]*at
				break
			}
		}
	}
	return n
}

// Agree returns what two proposals have in common, in the order of p; ok is false where some type has nothing.
func (p Proposal) Agree(q Proposal) (s Suite, ok bool) {
	s.Protocol = p.Protocol
	if p.Protocol != q.Protocol {
		return s, false
	}
	ok = true
	for _, r := range order {
		c, common := agreeOn(r, p.Transforms[r], q.Transforms[r])
		ok = ok && common
		if r == Sequence && (!common || p.Protocol == IKE || c.ID == 0) {
			c = Choice{} // 32-bit numbers go without saying
		}
		s.Transforms[r] = c
	}
	return s, ok
}

// agreeOn agrees on one type of transform.
func agreeOn(r Registry, a, b Choices) (Choice, bool) {
	switch {
	case r == Sequence:
		return common(orZero(a, noSequence), orZero(b, noSequence))
	case r.Exchanges():
		return exchange(a, b)
	}
	return common(a, b)
}

// Lacking returns the types of transform in which two proposals have nothing in common, in the order in which they are
// shown.
func (p Proposal) Lacking(q Proposal) []Registry {
	var out []Registry
	for _, r := range order {
		if _, ok := agreeOn(r, p.Transforms[r], q.Transforms[r]); !ok {
			out = append(out, r)
		}
	}
	return out
}

// What holds where no choices of a type are written: number 0.
var (
	noSequence = sync.OnceValue(func() Choices { return Picks(Sequence, 0) })
	noExchange = sync.OnceValue(func() Choices { return Picks(KeyExchange, 0) })
)

// orZero returns the choices of a type, where none are written that of number 0.
func orZero(cs Choices, zero func() Choices) Choices {
	if len(cs) == 0 {
		return zero()
	}
	return cs
}

// common returns the first of a that b has too. Where neither has any, that is agreement on none.
func common(a, b Choices) (Choice, bool) {
	for _, c := range a {
		if b.Has(c) {
			return c, true
		}
	}
	return Choice{}, len(a) == 0 && len(b) == 0
}

// exchange is common for key exchanges, where the number 0 says in so many words that there is none.
func exchange(a, b Choices) (Choice, bool) {
	c, ok := common(orZero(a, noExchange), orZero(b, noExchange))
	if ok && c.ID == 0 {
		return Choice{}, true
	}
	return c, ok
}

// WithoutKeyExchange returns the proposals as they are offered where no key exchange takes place: for the child that is
// made along with the IKE SA (RFC 7296 section 1.2).
func WithoutKeyExchange(ps []Proposal) []Proposal {
	out := slices.Clone(ps)
	for i := range out {
		for _, r := range order {
			if r.Exchanges() {
				out[i].Transforms[r] = nil
			}
		}
	}
	return out
}

// FirstGroup returns the key exchange for which an initiator sends its share at once: the first of its first proposal.
func FirstGroup(ps []Proposal) Choice {
	for _, p := range ps {
		if len(p.Transforms[KeyExchange]) > 0 {
			return p.Transforms[KeyExchange][0]
		}
	}
	return Choice{}
}

// Lead returns the proposals with those first that have a group: the order in which an IKEv2 initiator sends them, so that
// its guess of the group fits as many as it can.
func Lead(ps []Proposal, group Choice) []Proposal {
	if group.Algorithm == nil {
		return ps
	}
	var with, without []Proposal
	for _, p := range ps {
		if p.Transforms[KeyExchange].Has(group) {
			with = append(with, p)
		} else {
			without = append(without, p)
		}
	}
	return append(with, without...)
}

// hashPRF is the PRF that an IKEv1 hash stands for, by the number of the integrity algorithm.
var hashPRF = map[uint16]uint16{1: 1, 6: 1, 2: 2, 7: 2, 12: 5, 13: 6, 14: 7}

// PRFOf returns the PRF that is made as an integrity algorithm is: of the same hash, or of the same cipher (RFC 2403, RFC 2404, RFC 3566,
// RFC 4494, RFC 4868). ok is false for an algorithm that has none.
func PRFOf(integrity Choice) (prf Choice, ok bool) {
	id, ok := hashPRF[integrity.ID]
	switch integrity.ID {
	case 5: // AUTH_AES_XCBC_96
		id, ok = 4, true
	case 8: // AUTH_AES_CMAC_96
		id, ok = 8, true
	}
	if !ok {
		return Choice{}, false
	}
	return Pick(PRF, id, 0), true
}

// OfferV1 returns the proposals as an IKEv1 initiator sends them (RFC 2409 section 5): of every type the first that IKEv1
// has a number for, and none whose PRF is not that of its hash.
func OfferV1(ps []Proposal) []Proposal {
	var out []Proposal
	for _, p := range ps {
		one := Proposal{
			Text:       p.Text,
			Protocol:   p.Protocol,
			Transforms: Transforms{KeyExchange: head(p.Transforms[KeyExchange]), Sequence: extended(p.Transforms[Sequence])},
		}
		one.Transforms[Encryption] = first(p.Transforms[Encryption], func(c Choice) bool { return !c.Combined && c.ID != 13 && c.ID != 24 })
		if p.Protocol != IKE { // of ESP's the very first, whether it can be said or not
			one.Transforms[Encryption] = head(p.Transforms[Encryption])
		}
		if len(one.Transforms[Encryption]) > 0 && one.Transforms[Encryption][0].ID == 28 {
			continue
		}
		one.Transforms[Integrity] = first(
			p.Transforms[Integrity],
			func(c Choice) bool { _, known := hashPRF[c.ID]; return known || p.Protocol != IKE },
		)
		if len(p.Transforms[Encryption]) > 0 && len(one.Transforms[Encryption]) == 0 ||
			len(p.Transforms[Integrity]) > 0 && len(one.Transforms[Integrity]) == 0 {
			continue
		}
		if p.Protocol == IKE {
			if len(one.Transforms[Integrity]) == 0 {
				continue
			}
			prf := Pick(PRF, hashPRF[one.Transforms[Integrity][0].ID], 0)
			if !p.Transforms[PRF].Has(prf) {
				continue
			}
			one.Transforms[PRF] = Choices{prf}
		}
		out = append(out, one)
	}
	return out
}

// first returns the first choice for which a condition holds, as a list of one; none where it holds for none.
func first(cs Choices, holds func(Choice) bool) Choices {
	if i := slices.IndexFunc(cs, holds); i >= 0 {
		return cs[i : i+1]
	}
	return nil
}

// extended keeps of a list of sequence numbers the extended ones where it has them: IKEv1 has an attribute for those, and nothing
// to say for the others (seen with strongSwan 5.9.8).
func extended(cs Choices) Choices {
	if i := slices.IndexFunc(cs, func(c Choice) bool { return c.ID == 1 }); i >= 0 {
		return cs[i : i+1]
	}
	return head(cs)
}

func head(cs Choices) Choices { return cs[:min(len(cs), 1)] }

// QuickModeGroup returns the key exchange that an IKEv1 initiator asks for in quick mode: the one of its IKE SA where any
// proposal has it, else the first that is configured; the zero Choice for none.
func QuickModeGroup(ps []Proposal, ofIKE Choice) Choice {
	if first := FirstGroup(ps); first.Algorithm == nil || first.ID == 0 {
		return Choice{} // none comes first: no group is asked for, whatever stands behind it (seen with strongSwan 5.9.8)
	}
	for _, p := range ps {
		if ofIKE.Algorithm != nil && p.Transforms[KeyExchange].Has(ofIKE) {
			return ofIKE
		}
	}
	for _, p := range ps {
		if len(p.Transforms[KeyExchange]) > 0 {
			return p.Transforms[KeyExchange][0]
		}
	}
	return Choice{}
}
