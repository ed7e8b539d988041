// Package tree reads the syntaxes whose values nest: JSON, YAML and XML. All become the same tree, whose names and values know their bytes.
// It knows no meaning.
package tree

import (
	"bytes"

	"toril/source"
	"toril/syntax"
)

// MaxDepth is how deep values may nest.
const MaxDepth = 64

// Kind is what a node is.
type Kind uint8

// The kinds.
const (
	Map  Kind = iota // members by name; of XML an element with others in it
	List             // values in a row
	Text             // a text, in quotation marks or not; of XML the text of an element, or an attribute
	Word             // a number, true, false, null
)

// Node is a value, with its name where it has one.
type Node struct {
	Kind  Kind
	Key   string       // its name in a map
	Name  syntax.Place // of that; of XML the start tag
	Text  string       // of a text or a word, as it is meant
	Value syntax.Place // of a text or a word, as it is written; empty where its bytes are not known
	Nodes []*Node      // of a map or a list
}

// At returns where the node begins: its name, else its value, else the first of its nodes.
func (n *Node) At() syntax.Place {
	switch {
	case n.Name.Line > 0:
		return n.Name
	case n.Value.Line > 0 || len(n.Nodes) == 0:
		return n.Value
	}
	return n.Nodes[0].At()
}

// Get returns the member of a name, the last where there are several; nil where there is none.
func (n *Node) Get(key string) *Node {
	for i := len(n.Nodes) - 1; i >= 0 && n.Kind == Map; i-- {
		if n.Nodes[i].Key == key {
			return n.Nodes[i]
		}
	}
	return nil
}

// Places returns the bytes of every name and every value, in the order of the file.
func (n *Node) Places() []syntax.Place {
	var out []syntax.Place
	for _, p := range []syntax.Place{n.Name, n.Value} {
		if p.End > 0 {
			out = append(out, p)
		}
	}
	for _, m := range n.Nodes {
		out = append(out, m.Places()...)
	}
	return out
}

// Error is what is wrong with a text, and in which line.
type Error struct {
	Line int
	Why  string
}

// Error implements error.
func (e *Error) Error() string { return e.Why }

// text is a file that is gone through once.
type text struct {
	data []byte
	at   int
	line int // of that
}

// place returns the place of bytes that lie behind all that were asked about before.
func (t *text) place(start, end int) syntax.Place {
	t.line += bytes.Count(t.data[t.at:start], []byte("\n"))
	t.at = start
	return syntax.Place{Line: t.line, Range: source.Range{Start: start, End: end}}
}
