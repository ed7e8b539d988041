package model

import (
	"toril/packet"
	"toril/source"
)

// NamedSet is a set of values that rules of a packet filter refer to by name, kept apart from the rules.
type NamedSet struct {
	Name    string
	At      source.Pos
	Kinds   []string // what each part of an element is: "ip", "net", "port", "iface", "mark", "mac"
	Family  packet.Family
	Entries []SetEntry
	Members []string // of a list of sets: their names
	Doubts  Doubts   // what of it was not understood
	Changes string   // why its content may be another while the gateway runs; "" where it is as saved
}

// SetEntry is one element: all parts hold together.
type SetEntry struct {
	Parts  []packet.Values
	Proto  packet.Values // of a part that is a port
	Except bool          // what has it is not in the set
}

// AddSet adds a named set; it reports false where one of the name is known already.
func (g *Gateway) AddSet(s *NamedSet) bool {
	if g.index.sets[s.Name] != nil {
		return false
	}
	if g.index.sets == nil {
		g.index.sets = map[string]*NamedSet{}
	}
	g.index.sets[s.Name] = s
	g.Sets = append(g.Sets, s)
	return true
}

// Set returns a named set of a gateway; nil where there is none.
func (g *Gateway) Set(name string) *NamedSet { return g.index.sets[name] }

// Defined returns the definition of a kind and name. One that is not known yet is made, as missing; giving it a position marks it as
// defined.
func (g *Gateway) Defined(kind, name string) *Definition {
	key := [2]string{kind, name}
	d := g.index.defined[key]
	if d == nil {
		d = &Definition{Kind: kind, Name: name, Missing: true}
		if g.index.defined == nil {
			g.index.defined = map[[2]string]*Definition{}
		}
		g.index.defined[key] = d
		g.Definitions = append(g.Definitions, d)
	}
	return d
}
