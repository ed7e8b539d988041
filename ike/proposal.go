package ike

import (
	"slices"
	"strings"

	"toril/source"
)

// Types is the number of IKEv2's transform types, from Encryption to the seventh additional key exchange.
const Types = int(Additional7)

// Transforms are choices by their type of transform (RFC 7296 section 3.3.2, RFC 9370 section 2.2.1): one ordered list a
// type, the first preferred.
type Transforms [Types + 1]Choices

// Proposal is what one end offers or accepts for one SA: of every type of transform any one of a list, the first
// preferred (RFC 7296 section 2.7). Without sequence numbers they are of 32 bits; a key exchange of number 0 is "none".
type Proposal struct {
	Text       string       // as written; "" for a default
	Range      source.Range // of that: in the text it was read from, and in its file once a reader has placed it; zero where it has none
	Protocol   Protocol
	Transforms Transforms
}

// order is the order in which types are shown: what protects packets first, then how keys are made.
var order = [...]Registry{
	Encryption,
	Integrity,
	PRF,
	KeyExchange,
	Additional1,
	Additional1 + 1,
	Additional1 + 2,
	Additional1 + 3,
	Additional1 + 4,
	Additional1 + 5,
	Additional7,
	Sequence,
}

// TypesShown returns every type of transform, in the order in which they are shown to people.
func TypesShown() []Registry { return order[:] }

// Exchanges reports whether a type of transform is a key exchange: the first, or an additional one (RFC 9370).
func (r Registry) Exchanges() bool { return r == KeyExchange || r >= Additional1 && r <= Additional7 }

// String returns the proposal as written, or its everyday names.
func (p Proposal) String() string {
	if p.Text != "" {
		return p.Text
	}
	return p.Names()
}

// Equal reports whether two proposals have the same transforms, in the same order.
func (p Proposal) Equal(q Proposal) bool {
	if p.Protocol != q.Protocol {
		return false
	}
	for r := range p.Transforms {
		if !slices.Equal(p.Transforms[r], q.Transforms[r]) {
			return false
		}
	}
	return true
}

// Names returns the everyday names of all that the proposal offers, types divided by " / ".
func (p Proposal) Names() string {
	var parts []string
	for _, r := range order {
		cs := p.Transforms[r]
		if len(cs) == 0 || r == Sequence && !slices.ContainsFunc(cs, func(c Choice) bool { return c.ID == 1 }) {
			continue
		}
		parts = append(parts, cs.Labels())
	}
	return strings.Join(parts, " / ")
}

// Combined reports whether every cipher of the proposal protects integrity too.
func (p Proposal) Combined() bool {
	return len(p.Transforms[Encryption]) > 0 &&
		!slices.ContainsFunc(p.Transforms[Encryption], func(c Choice) bool { return !c.Algorithm.Combined })
}

// PFS reports whether the proposal asks for a key exchange of the child's own: always, or (optional) as one choice
// beside none.
func (p Proposal) PFS() (asked, optional bool) {
	for _, c := range p.Transforms[KeyExchange] {
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
	if int(r) > Types {
		return nil
	}
	return p.Transforms[r]
}

// All returns every choice of the proposal but for sequence numbers, in the order in which types are shown.
func (p Proposal) All() Choices {
	var out Choices
	for _, r := range order {
		if r != Sequence {
			out = append(out, p.Transforms[r]...)
		}
	}
	return out
}
