package statements

import (
	"errors"

	"toril/syntax/tree"
)

// tree reads JSON, YAML and XML. What is broken is bad as a whole.
func (m Manner) tree(data []byte) ([]*Statement, []Bad) {
	parse := map[Kind]func([]byte) (*tree.Node, error){JSON: tree.JSON, YAML: tree.YAML, XML: tree.XML}[m.Kind]
	root, err := parse(data)
	if err != nil {
		var e *tree.Error
		if errors.As(err, &e) {
			return nil, []Bad{{e.Line, e.Why}}
		}
		return nil, []Bad{{1, err.Error()}}
	}
	if root.Key != "" { // the element of XML
		return []*Statement{member(root)}, nil
	}
	return members(root), nil
}

// members are the statements of a map; of a list, of its elements without a name.
func members(n *tree.Node) []*Statement {
	var out []*Statement
	for _, m := range n.Nodes {
		if m.Kind != tree.List {
			out = append(out, member(m))
			continue
		}
		for _, e := range m.Nodes { // each as if it had the list's name
			one := *e
			one.Key, one.Name = m.Key, m.Name
			st := member(&one)
			if at := e.At(); at.Line > 0 {
				st.Place = at
			}
			if len(st.Words) > 0 || len(st.Nested) > 0 {
				out = append(out, st)
			}
		}
	}
	return out
}

// member is the statement of a value with its name.
func member(n *tree.Node) *Statement {
	st := &Statement{Place: n.At()}
	if n.Key != "" {
		st.Words = append(st.Words, Word{Text: n.Key, Place: n.Name})
	}
	switch n.Kind {
	case tree.Map, tree.List:
		st.Nested = members(n)
		if n.Text == "" {
			return st
		}
	}
	if n.Text != "" || n.Value.End > 0 {
		st.Words = append(st.Words, Word{n.Text, n.Kind == tree.Text, n.Value})
	}
	if n.Value.End > st.End && st.End > 0 {
		st.End = n.Value.End
	}
	return st
}
