package ike

import (
	"slices"
	"strings"
)

// Proposal is what one end offers or accepts for one SA: of every type of transform any one of a list, the first
// preferred (RFC 7296 section 2.7).
type Proposal struct {
	Text        string // as written; "" for a default
	Protocol    Protocol
	Encryption  Choices
	PRF         Choices // IKE only
	Integrity   Choices // empty with a combined cipher
	KeyExchange Choices // of a child: for PFS; a choice of number 0 is "none"
	Sequence    Choices // children only; empty means 32-bit numbers
	Additional  map[Registry]Choices
}

// String returns the proposal as written, or its everyday names.
func (p Proposal) String() string {
	if p.Text != "" {
		return p.Text
	}
	return p.Names()
}

// Names returns the everyday names of all that the proposal offers, types divided by " / ".
func (p Proposal) Names() string {
	var parts []string
	for _, cs := range []Choices{p.Encryption, p.Integrity, p.PRF, p.KeyExchange} {
		if len(cs) > 0 {
			parts = append(parts, cs.Labels())
		}
	}
	if slices.ContainsFunc(p.Sequence, func(c Choice) bool { return c.ID == 1 }) {
		parts = append(parts, p.Sequence.Labels())
	}
	return strings.Join(parts, " / ")
}

// Combined reports whether every cipher of the proposal protects integrity too.
func (p Proposal) Combined() bool {
	return len(p.Encryption) > 0 && !slices.ContainsFunc(p.Encryption, func(c Choice) bool { return !c.Algorithm.Combined })
}

// PFS reports whether the proposal asks for a key exchange of the child's own: always, or (optional) as one choice
// beside none.
func (p Proposal) PFS() (asked, optional bool) {
	for _, c := range p.KeyExchange {
		if c.ID == 0 {
			optional = true
		} else {
			asked = true
		}
	}
	return asked, asked && optional
}

// All returns every choice of one type over a list of proposals, each once, in the order of first mention.
func All(ps []Proposal, r Registry) Choices {
	var out Choices
	for _, p := range ps {
		for _, c := range p.Of(r) {
			if !out.Has(c) {
				out = append(out, c)
			}
		}
	}
	return out
}

// Of returns the choices of one type of transform.
func (p Proposal) Of(r Registry) Choices {
	switch r {
	case Encryption:
		return p.Encryption
	case PRF:
		return p.PRF
	case Integrity:
		return p.Integrity
	case KeyExchange:
		return p.KeyExchange
	case Sequence:
		return p.Sequence
	}
	return p.Additional[r]
}

// All returns every choice of the proposal.
func (p Proposal) All() Choices {
	var out Choices
	for _, cs := range []Choices{p.Encryption, p.Integrity, p.PRF, p.KeyExchange} {
		out = append(out, cs...)
	}
	return out
}
